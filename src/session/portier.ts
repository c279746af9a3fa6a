import type { Reading } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { compileRules } from "../rules/compile-rules.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { TypedDocument } from "../schema/document.js";
import type { Locate } from "../schema/problems.js";
import type { Schema } from "../schema/schema.js";
import type { AnyTables, TableTypes } from "../schema/table-types.js";
import { asksOfAnyRecord } from "./decided.js";
import { Likeness } from "./likeness.js";
import { memorySource } from "./memory-source.js";
import { type Home, OpenedParts, type Opening } from "./opened.js";
import { Plan } from "./plan.js";
import { firstOnConsole, makeReading, type SessionReading } from "./reading.js";
import { Recent } from "./recent.js";
import { rememberedSource } from "./remembered-source.js";
import { residualSteps } from "./residual.js";
import type { Opener } from "./roles/opener.js";
import { keepRuleset } from "./rulesets.js";
import { Session } from "./session.js";
import type { Finding, SessionOptions } from "./session-options.js";
import { readRequest } from "./session-values.js";
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

/** A compiled document. Immutable and shared by all requests; when the document changes, compile a new one and swap. */
export class Portier<T extends TableTypes = AnyTables> {
  readonly #ruleset: Ruleset;
  /** Each is of all who are alike but for their values, or, for what is sent elsewhere, of equal persons. */
  readonly #plans = new Recent<Plan>(1_000);
  /** By what is stored of them: those who were opened before. */
  readonly #known = new Recent<Known>(1_000);
  readonly #likeness: Likeness | undefined;
  readonly #home: Home;

  /** Made by {@link compile}, not by applications. */
  constructor(ruleset: Ruleset) {
    this.#ruleset = ruleset;
    this.#likeness = Likeness.of(ruleset);
    this.#home = {
      ruleset,
      opener: this as unknown as Opener,
      asksOfAnyRecord: asksOfAnyRecord(ruleset),
      planFor: (key, asker) => this.#planFor(key, asker),
    };
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
    const asked = this.#likeOf(options, reading);
    if (asked === undefined) {
      const subject = openSubject(this.#ruleset, options, reading, conflict);
      return this.#openFor(subject, reading, report, options);
    }
    const known = this.#known.get(asked.like.id);
    if (known === undefined) return this.#openFirst(options, reading, report);
    const { like, request } = asked;
    reading.values = like.values;
    const subject = () => openSubject(this.#ruleset, { ...options, request }, reading, conflict);
    const { shared, roles } = known;
    return this.#open({ shared, key: like.key, reading, report, options, roles: () => roles, subject });
  }

  /** The first of all who are alike. What they are like, and who they are, is read from one state, at one instant. */
  #openFirst(options: SessionOptions, reading: SessionReading, report: Report): Session<T> {
    let isTold = false;
    const conflict = (message: string) => {
      isTold = true;
      report({ kind: "bad-data", message });
    };
    const opening = { ...reading, source: reading.source && rememberedSource(reading.source) };
    const asked = this.#likeOf(options, opening);
    const at = asked === undefined ? options : { ...options, request: asked.request };
    const subject = openSubject(this.#ruleset, at, opening, conflict);
    const session = this.#openFor(subject, reading, report, options);
    // What had to be told is told again of whoever is alike.
    if (asked !== undefined && !isTold && !reading.isTold) {
      const shared = this.#planFor(subject.planKey, subject.alike);
      // One list for all who are alike: nobody may write into it.
      this.#known.set(asked.like.id, { shared, roles: Object.freeze(subject.roles()) });
    }
    return session;
  }

  /** Whom the current user is like; undefined where more has to be looked at. */
  #likeOf({ person, actedBy, claims, request }: SessionOptions, reading: Reading) {
    const { people } = this.schema;
    if (this.#likeness === undefined || people === undefined || person === null || person === undefined)
      return undefined;
    if (actedBy !== undefined || claims !== undefined) return undefined;
    const row = typeof person === "object" ? person : reading.source?.find(people.table.name, String(person));
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

  /**
   * The view of somebody who holds these roles (and all they include), or is in these groups, and of whom nothing else is
   * known. Good for
   * `reach`; conditions on the person are open, so decisions on records see them as unknown. Of the request, the moment
   * counts: a rule may be there for a time.
   */
  sessionForRoles(roles: readonly string[], { request = {} }: Pick<SessionOptions, "request"> = {}): Session<T> {
    const report = firstOnConsole();
    const subject = roleSubject(this.#ruleset, roles, request);
    return this.#openFor(subject, makeReading(undefined, report), report, {});
  }

  /** A source over records in memory: table name to records. */
  source(data: Readonly<Record<string, readonly Row[]>>): Source {
    return memorySource(this.schema, data);
  }

  #openFor(subject: Subject, reading: SessionReading, report: Report, options: SessionOptions): Session<T> {
    const { key, roles, values } = subject;
    reading.values = values;
    const shared = this.#planFor(subject.planKey, subject.alike);
    return this.#open({ shared, key, reading, report, options, roles, subject: () => subject });
  }

  #open(opening: Opening): Session<T> {
    return new Session<T>(new OpenedParts(this.#home, opening));
  }

  #planFor(key: string, asker: Asker): Plan {
    const known = this.#plans.get(key);
    if (known !== undefined) return known;
    const plan = new Plan(this.schema, residualSteps(this.#ruleset, asker));
    this.#plans.set(key, plan);
    return plan;
  }
}

type Report = (finding: Finding) => void;

/** What is known of all who are alike. It keeps nothing of the one who was the first. */
interface Known {
  readonly shared: Plan;
  readonly roles: readonly string[];
}
