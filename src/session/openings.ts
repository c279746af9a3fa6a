import type { Reading } from "../conditions/read.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { ScreenNeed } from "../rules/screens.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, lastOf, type Schema } from "../schema/schema.js";
import { asksOfAnyRecord, decidedSteps } from "./decided.js";
import { ProtectedRules } from "./kept-protections.js";
import { Likeness } from "./likeness.js";
import { type OpenedSubject, openSubject } from "./open-subject.js";
import { Plan } from "./plan.js";
import type { Reach } from "./reach.js";
import { firstOnConsole, makeReading, type SessionReading } from "./reading.js";
import { Recent } from "./recent.js";
import { rememberedSource } from "./remembered-source.js";
import { residualSteps } from "./residual.js";
import type { RoleGuard } from "./role-guard.js";
import { roleSubject } from "./role-subject.js";
import { isRow } from "./row.js";
import { type ShownScreens, shownScreens } from "./screens.js";
import type { Diagnostic, SessionOptions } from "./session-options.js";
import type { MakeRoleGuard, SessionOrigin, SessionParts } from "./session-parts.js";
import { readRequest } from "./session-values.js";
import type { Subject } from "./subject.js";
import type { UserMessages } from "./user-messages.js";

type OnDiagnostic = (diagnostic: Diagnostic) => void;

/** What is known of all who are alike. It keeps nothing of the one who was the first. */
interface Known {
  readonly plan: Plan;
  readonly roles: readonly string[];
}

/** What a session is opened with. */
interface Opening {
  readonly plan: Plan;
  readonly key: Scalar | null | undefined;
  readonly reading: Reading;
  readonly onDiagnostic: OnDiagnostic;
  readonly options: SessionOptions;
  readonly roles: () => readonly string[];
  readonly subject: () => OpenedSubject;
}

/** A compiled document, as sessions are opened from it, and what they share. */
export class Openings {
  readonly ruleset: Ruleset;
  /** Whether any rule has a test that can be the same for all records. */
  readonly asksOfAnyRecord: boolean;
  /** Each is of all who are alike but for their values. */
  readonly #plans = new Recent<Plan>(1_000);
  /** By what is stored of them: those who were opened before. */
  readonly #known = new Recent<Known>(1_000);
  readonly #likeness: Likeness | undefined;
  readonly #makeGuard: MakeRoleGuard | undefined;

  /** Absent where nothing is protected as data, and in what is opened from a state of that. */
  readonly #protected: ProtectedRules | undefined;
  readonly #underRules = new WeakMap<Ruleset, Openings>();

  /**
   * `makeGuard`: absent where the functions that judge changes bring it along. `isWhole`: what is protected as data is among
   * the rules.
   */
  constructor(ruleset: Ruleset, makeGuard?: MakeRoleGuard, isWhole = false) {
    this.ruleset = ruleset;
    this.#protected = isWhole ? undefined : ProtectedRules.of(ruleset);
    this.#makeGuard = makeGuard;
    this.asksOfAnyRecord = asksOfAnyRecord(ruleset);
    this.#likeness = Likeness.of(ruleset);
  }

  get schema(): Schema {
    return this.ruleset.schema;
  }

  /** Of one person, for one request. Throws as `Portier.session` does. */
  open(options: SessionOptions): SessionParts {
    const rules = this.#protected?.now(options.source) ?? this.ruleset;
    if (rules !== this.ruleset) return this.#under(rules).open(options);
    const onDiagnostic = options.onDiagnostic ?? firstOnConsole();
    const reading = makeReading(options.source, onDiagnostic);
    const conflict = (message: string) => onDiagnostic({ kind: "bad-data", message });
    const asked = this.#likeOf(options, reading);
    if (asked === undefined) {
      const subject = openSubject(this.ruleset, options, reading, conflict);
      return this.#openFor(subject, reading, onDiagnostic, options);
    }
    const known = this.#known.get(asked.like.id);
    if (known === undefined) return this.#openFirst(options, reading, onDiagnostic);
    const { like, request } = asked;
    reading.values = like.values;
    const subject = () => openSubject(this.ruleset, { ...options, request }, reading, conflict);
    const { plan, roles } = known;
    return new OpenedParts(this, { plan, key: like.key, reading, onDiagnostic, options, roles: () => roles, subject });
  }

  #under(rules: Ruleset): Openings {
    const made = this.#underRules.get(rules) ?? new Openings(rules, this.#makeGuard, true);
    this.#underRules.set(rules, made);
    return made;
  }

  /** Of somebody who holds these roles, or is in these groups, and of whom nothing else is known. */
  openForRoles(names: readonly string[], request: Readonly<Record<string, unknown>>): SessionParts {
    const onDiagnostic = firstOnConsole();
    const subject = roleSubject(this.ruleset, names, request);
    return this.#openFor(subject, makeReading(undefined, onDiagnostic), onDiagnostic, {});
  }

  /** The first of all who are alike. What they are like, and who they are, is read from one state, at one instant. */
  #openFirst(options: SessionOptions, reading: SessionReading, onDiagnostic: OnDiagnostic): SessionParts {
    let isTold = false;
    const conflict = (message: string) => {
      isTold = true;
      onDiagnostic({ kind: "bad-data", message });
    };
    const opening = { ...reading, source: reading.source && rememberedSource(reading.source) };
    const asked = this.#likeOf(options, opening);
    const at = asked === undefined ? options : { ...options, request: asked.request };
    const subject = openSubject(this.ruleset, at, opening, conflict);
    const parts = this.#openFor(subject, reading, onDiagnostic, options);
    // What had to be told is told again of whoever is alike.
    if (asked !== undefined && !isTold && !reading.isTold) {
      const plan = this.#planFor(subject.planKey, subject.alike);
      // One list for all who are alike: nobody may write into it.
      this.#known.set(asked.like.id, { plan, roles: Object.freeze(subject.roles()) });
    }
    return parts;
  }

  /** Whom the current user is like; undefined where more has to be looked at. */
  #likeOf({ person, actedBy, claims, request }: SessionOptions, reading: Reading) {
    const { people } = this.schema;
    if (this.#likeness === undefined || people === undefined || person === null || person === undefined)
      return undefined;
    if (actedBy !== undefined || claims !== undefined) return undefined;
    const row = isRow(person) ? person : reading.source?.find(people.table.name, String(person));
    if (row === undefined) return undefined;
    // Most rules read nothing of the request, and many not even the time.
    const given = request ?? { now: new Date() };
    let values = request && readRequest(this.schema, request);
    const read = () => {
      values ??= readRequest(this.schema, given);
      return values;
    };
    const like = this.#likeness.of({ person: row, request: read, reading });
    return like && { like, request: { ...given, now: values?.get("now") ?? given["now"] } };
  }

  #openFor(
    subject: OpenedSubject,
    reading: SessionReading,
    onDiagnostic: OnDiagnostic,
    options: SessionOptions,
  ): SessionParts {
    const { key, roles, values } = subject;
    reading.values = values;
    const plan = this.#planFor(subject.planKey, subject.alike);
    return new OpenedParts(this, { plan, key, reading, onDiagnostic, options, roles, subject: () => subject });
  }

  /** Without anything that judges them, no change is judged: that is a fault, and refuses. */
  guard(
    make: MakeRoleGuard | undefined,
    openedFor: () => OpenedSubject,
    options: Parameters<MakeRoleGuard>[2],
  ): RoleGuard | undefined {
    const guard = this.#makeGuard ?? make;
    if (guard === undefined) {
      const what = "this accept belongs to snapshots: nothing here judges changes of who holds a role";
      throw portierError("wrong-call", { what, hint: 'take accept, choices and form from "portier/functions"' });
    }
    return guard(this, openedFor, options);
  }

  #planFor(key: string, alike: Subject): Plan {
    const known = this.#plans.get(key);
    if (known !== undefined) return known;
    const plan = new Plan(this.schema, residualSteps(this.ruleset, alike));
    this.#plans.set(key, plan);
    return plan;
  }
}

/** The parts of a session. Sessions are opened for every request: what few ask for is made when it is asked for. */
class OpenedParts implements SessionParts {
  readonly people: string | undefined;
  readonly plan: Plan;
  readonly key: Scalar | null | undefined;
  readonly actedBy: string | undefined;
  readonly reading: Reading;
  readonly onDiagnostic: OnDiagnostic;
  readonly messages: Partial<UserMessages> | undefined;
  readonly roles: () => readonly string[];
  readonly #openings: Openings;
  readonly #opening: Opening;
  #origin: SessionOrigin | undefined;
  #decided: Plan | undefined;

  constructor(openings: Openings, opening: Opening) {
    const { actedBy } = opening.options;
    this.people = openings.schema.people?.table.name;
    this.plan = opening.plan;
    this.key = opening.key;
    this.actedBy = actedBy === undefined ? undefined : String(actedBy);
    this.reading = opening.reading;
    this.onDiagnostic = opening.onDiagnostic;
    this.messages = opening.options.messages;
    this.roles = opening.roles;
    this.#openings = openings;
    this.#opening = opening;
  }

  get origin(): SessionOrigin {
    this.#origin ??= { ruleset: this.#openings.ruleset, subject: this.#opening.subject() };
    return this.#origin;
  }

  decided(): Plan {
    if (!this.#openings.asksOfAnyRecord) return this.plan;
    this.#decided ??= new Plan(this.#openings.schema, decidedSteps(this.plan, this.reading), this.plan);
    return this.#decided;
  }

  guard(make: MakeRoleGuard | undefined): RoleGuard | undefined {
    const { actedBy, request = {} } = this.#opening.options;
    return this.#openings.guard(make, () => this.origin.subject, {
      ...(actedBy !== undefined && { actedBy }),
      request,
    });
  }

  standard(field: Field): Scalar | null | undefined {
    const { defaultFrom: from, type } = field;
    const { known } = this.origin.subject;
    if (from === undefined) return undefined;
    const value =
      from.kind === "me"
        ? known({ kind: "me", type: lastOf(from.path).type, path: from.path })
        : known(from.kind === "now" ? { kind: "request", type, name: "now" } : { kind: "today", type });
    return value.kind === "constant" ? value.value : undefined;
  }

  screens(reach: (need: ScreenNeed) => Reach): ShownScreens {
    return shownScreens(this.#openings.ruleset.screens, this.origin.subject, reach);
  }
}
