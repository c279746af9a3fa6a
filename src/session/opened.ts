import type { Reading } from "../conditions/read.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Need } from "../rules/screens.js";
import type { Scalar } from "../schema/scalar.js";
import { withDecided } from "./decided.js";
import { Plan } from "./plan.js";
import type { Reach } from "./reach.js";
import { residualSteps } from "./residual.js";
import type { RoleGuard } from "./role-guard.js";
import { roleGuard } from "./roles/guard.js";
import type { Opener } from "./roles/opener.js";
import { type ShownScreens, shownScreens } from "./screens.js";
import type { Finding, SessionOptions } from "./session-options.js";
import type { SessionOrigin, SessionParts } from "./session-parts.js";
import type { Asker, Subject } from "./subject.js";

/** What all sessions of a compiled document share. */
export interface Home {
  readonly ruleset: Ruleset;
  readonly opener: Opener;
  /** Whether any rule has a test that can be the same for all records. */
  readonly asksOfAnyRecord: boolean;
  planFor(key: string, asker: Asker): Plan;
}

/** What a session is opened with. */
export interface Opening {
  readonly shared: Plan;
  readonly key: Scalar | null | undefined;
  readonly reading: Reading;
  readonly report: (finding: Finding) => void;
  readonly options: SessionOptions;
  readonly roles: () => readonly string[];
  readonly subject: () => Subject;
}

/** The parts of a session. Sessions are opened for every request: what few ask for is made when it is asked for. */
export class OpenedParts implements SessionParts {
  readonly people: string | undefined;
  readonly shared: Plan;
  readonly key: Scalar | null | undefined;
  readonly actedBy: string | undefined;
  readonly reading: Reading;
  readonly report: (finding: Finding) => void;
  readonly roles: () => readonly string[];
  readonly #home: Home;
  readonly #opening: Opening;
  #origin: SessionOrigin | undefined;
  #decided: Plan | undefined;

  constructor(home: Home, opening: Opening) {
    const { actedBy } = opening.options;
    this.people = home.ruleset.schema.people?.table.name;
    this.shared = opening.shared;
    this.key = opening.key;
    this.actedBy = actedBy === undefined ? undefined : String(actedBy);
    this.reading = opening.reading;
    this.report = opening.report;
    this.roles = opening.roles;
    this.#home = home;
    this.#opening = opening;
  }

  get origin(): SessionOrigin {
    this.#origin ??= { ruleset: this.#home.ruleset, subject: this.#opening.subject() };
    return this.#origin;
  }

  plan(): Plan {
    const { subject } = this.origin;
    return this.#home.planFor(subject.classKey(), subject.alone());
  }

  decided(): Plan {
    const { ruleset, asksOfAnyRecord } = this.#home;
    if (!asksOfAnyRecord) return this.shared;
    const asker = withDecided(this.origin.subject, this.shared, this.reading);
    this.#decided ??= new Plan(ruleset.schema, residualSteps(ruleset, asker));
    return this.#decided;
  }

  guard(): RoleGuard | undefined {
    const { opener, ruleset } = this.#home;
    const { actedBy, request = {} } = this.#opening.options;
    return roleGuard(opener, ruleset, () => this.origin.subject, {
      ...(actedBy !== undefined && { actedBy }),
      request,
    });
  }

  screens(reach: (need: Need) => Reach): ShownScreens {
    return shownScreens(this.#home.ruleset.screens, this.origin.subject, reach);
  }
}
