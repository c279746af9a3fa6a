import type { Reading } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { compileRules, type Ruleset } from "../rules/compile-rules.js";
import type { Need } from "../rules/screens.js";
import type { TypedDocument } from "../schema/document.js";
import type { Locate } from "../schema/problems.js";
import type { Schema } from "../schema/schema.js";
import type { AnyTables, TableTypes } from "../schema/table-types.js";
import { asksOfAnyRecord, withDecided } from "./decided.js";
import { memorySource } from "./memory-source.js";
import { Plan } from "./plan.js";
import type { Reach } from "./reach.js";
import { firstOnConsole, makeReading } from "./reading.js";
import { residualSteps } from "./residual.js";
import { roleGuard } from "./roles/guard.js";
import type { Opener } from "./roles/opener.js";
import { keepRuleset } from "./rulesets.js";
import { shownScreens } from "./screens.js";
import { type Finding, Session, type SessionOptions, type SessionParts } from "./session.js";
import { type Asker, openSubject, roleSubject, type Subject } from "./subject.js";

export interface CompileOptions {
  /** Gives file, line and column of a place in the document, for the problems of a document that was read from text. */
  readonly locate?: Locate;
}

/**
 * Checks a document and makes it ready for sessions.
 *
 * @throws PortierError with every problem of the document, in the order of the file. Nothing is half-loaded.
 */
export function compile<T extends TableTypes = AnyTables>(
  document: TypedDocument<T>,
  options: CompileOptions = {},
): Portier<T> {
  return new Portier(compileRules(document, options.locate));
}

/** Plans that are kept: each is of all who are alike but for their values, or, for what is sent elsewhere, of equal persons. */
const keptPlans = 1_000;

/** A compiled document. Immutable and shared by all requests; when the document changes, compile a new one and swap. */
export class Portier<T extends TableTypes = AnyTables> {
  readonly #ruleset: Ruleset;
  readonly #plans = new Map<string, Plan>();
  #asksOfAnyRecord: boolean | undefined;

  /** Made by {@link compile}, not by applications. */
  constructor(ruleset: Ruleset) {
    this.#ruleset = ruleset;
    keepRuleset(this, ruleset);
  }

  /** The declared tables, fields, people and roles. */
  get schema(): Schema {
    return this.#ruleset.schema;
  }

  /**
   * Opens the view of one person for one request.
   *
   * @throws PortierError when a person's role is one that does not exist, when a request value is not declared or does
   * not fit, when a person is given by key without a source, or when roles come from a link table and the source cannot
   * find what refers to a person.
   */
  session(options: SessionOptions = {}): Session<T> {
    const report = options.report ?? firstOnConsole();
    const reading = makeReading(options.source, report);
    const conflict = (message: string) => report({ kind: "bad-data", message });
    return this.#open(openSubject(this.#ruleset, options, reading, conflict), reading, report, options);
  }

  /**
   * The view of somebody who holds these roles (and all they include), or is in these groups, and of whom nothing else is
   * known. Good for
   * `reach`; conditions on the person are open, so decisions on records see them as unknown. Of the request, the moment
   * counts: a rule may be there for a time.
   */
  sessionForRoles(roles: readonly string[], { request = {} }: Pick<SessionOptions, "request"> = {}): Session<T> {
    const report = firstOnConsole();
    return this.#open(roleSubject(this.#ruleset, roles, request), makeReading(undefined, report), report);
  }

  /** A source over records in memory: table name to records. */
  source(data: Readonly<Record<string, readonly Row[]>>): Source {
    return memorySource(this.schema, data);
  }

  #open(
    subject: Subject,
    own: Reading,
    report: (finding: Finding) => void,
    { actedBy: actor, request = {} }: SessionOptions = {},
  ): Session<T> {
    const shared = this.#planFor(subject.planKey, subject.alike);
    const { people } = this.schema;
    const { key, roles } = subject;
    const origin = { ruleset: this.#ruleset, subject };
    const actedBy = actor === undefined ? undefined : String(actor);
    const screens = (reach: (need: Need) => Reach) => shownScreens(this.#ruleset.screens, subject, reach);
    const opener: Opener = this as unknown as Opener;
    const acting = actor === undefined ? { request } : { actedBy: actor, request };
    const guard = roleGuard(opener, this.#ruleset, subject, acting);
    const { source, badData, decided: tested } = own;
    const reading: Reading = { source, badData, decided: tested, values: subject.values };
    let made: Plan | undefined;
    const decided = (): Plan => {
      this.#asksOfAnyRecord ??= asksOfAnyRecord(this.#ruleset);
      if (!this.#asksOfAnyRecord) return shared;
      made ??= new Plan(this.schema, residualSteps(this.#ruleset, withDecided(subject, shared, reading)));
      return made;
    };
    let alone: Plan | undefined;
    const plan = (): Plan => {
      alone ??= this.#planFor(subject.classKey(), subject);
      return alone;
    };
    const parts: SessionParts = {
      people: people?.table.name,
      shared,
      plan,
      decided,
      key,
      actedBy,
      roles,
      guard,
      reading,
      report,
      screens,
      origin,
    };
    return new Session<T>(parts);
  }

  #planFor(key: string, asker: Asker): Plan {
    const plan = this.#plans.get(key) ?? new Plan(this.schema, residualSteps(this.#ruleset, asker));
    // The one that was not asked for the longest goes first.
    this.#plans.delete(key);
    this.#plans.set(key, plan);
    if (this.#plans.size > keptPlans) {
      const [oldest] = this.#plans.keys();
      if (oldest !== undefined) this.#plans.delete(oldest);
    }
    return plan;
  }
}
