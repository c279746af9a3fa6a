import type { Reading } from "../conditions/read.js";
import type { Scalar } from "../schema/scalar.js";
import type { Plan } from "./plan.js";
import type { RoleGuard } from "./role-guard.js";
import type { SessionParts } from "./session-parts.js";
import type { UserMessages } from "./user-messages.js";

/** What judging a change needs from the session. */
export interface ChangeContext {
  /** The name of the people table. */
  readonly people: string | undefined;
  readonly plan: Plan;
  /** The key of the current user; null for a visitor, undefined for a made-up holder of roles. */
  readonly key: Scalar | null | undefined;
  readonly reading: Reading;
  readonly standard: SessionParts["standard"];
  /** Judges changes of records that roles come from; undefined where none do. */
  readonly roles: RoleGuard | undefined;
  /** Reads what is proposed: that may be anything, it is judged and checked, but it is not bad data of the application. */
  readonly later: Reading;
  readonly messages: UserMessages;
}
