import type { Reading } from "../conditions/read.js";
import type { ActionName } from "../rules/actions.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { ScreenNeed } from "../rules/screens.js";
import type { Scalar } from "../schema/scalar.js";
import type { Field, Schema } from "../schema/schema.js";
import type { OpenedSubject } from "./open-subject.js";
import type { Plan } from "./plan.js";
import type { Reach } from "./reach.js";
import type { RoleGuard } from "./role-guard.js";
import type { ShownScreens } from "./screens.js";
import type { Diagnostic, SessionOptions } from "./session-options.js";
import type { UserMessages } from "./user-messages.js";

/** What a session is made of. */
export interface SessionParts {
  /** The name of the people table. */
  readonly people: string | undefined;
  /** What is left of the rules for all who are alike but for their values, which the reading has. */
  readonly plan: Plan;
  /** The plan with what is the same for every record decided, for questions without one. */
  readonly decided: () => Plan;
  readonly key: Scalar | null | undefined;
  readonly actedBy: string | undefined;
  readonly roles: () => readonly string[];
  /** Judges changes of records that roles come from; undefined where none do. `make`: where it was opened without one. */
  readonly guard: (make: MakeRoleGuard | undefined) => RoleGuard | undefined;
  readonly reading: Reading;
  readonly onDiagnostic: (diagnostic: Diagnostic) => void;
  /** What end users read of a refused change; undefined for English. */
  readonly messages: Partial<UserMessages> | undefined;
  /** What the session knows of the value of a new record; undefined where it cannot tell. Only of fields that say so. */
  readonly standard: (field: Field) => Scalar | null | undefined;
  readonly screens: (reach: (need: ScreenNeed) => Reach) => ShownScreens;
  /** Told of a table that a statement is written for, where it is looked at what would be hidden. */
  readonly stated?: ((table: string, action: ActionName) => void) | undefined;
  /** What a session was opened from; one that was made from a snapshot has none. */
  readonly origin: SessionOrigin | undefined;
}

/** A compiled document, as far as it opens sessions. */
export interface Opener {
  readonly ruleset: Ruleset;
  readonly schema: Schema;
  open(options: SessionOptions): SessionParts;
}

/** Makes what judges changes of who holds what; undefined where a document has no records that roles come from. */
export type MakeRoleGuard = (
  opener: Opener,
  openedFor: () => OpenedSubject,
  options: Pick<SessionOptions, "actedBy" | "request">,
) => RoleGuard | undefined;

/** What explanations and checks inside the package need of a session; nothing of it is public. */
export interface SessionOrigin {
  readonly ruleset: Ruleset;
  readonly subject: OpenedSubject;
}
