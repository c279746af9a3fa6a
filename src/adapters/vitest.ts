import type { Row } from "../conditions/source.js";
import { explain } from "../explain/explain.js";
import { explanationText } from "../explain/text.js";
import { recordAddress } from "../schema/address.js";
import type { DocumentTypes, PersonOf, RecordOf, RequestOf, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { findTable } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { AnySession } from "../session/open-session.js";
import type { Portier } from "../session/portier.js";
import { isRow } from "../session/row.js";
import type { Session } from "../session/session.js";

import type { SessionOptions } from "../session/session-options.js";

/** What a matcher answers to Vitest. */
export interface Matched {
  readonly pass: boolean;
  readonly message: () => string;
}

/** Sessions of any document. */

/**
 * Matchers for Vitest's `expect.extend`: whether a session permits something, with the whole explanation where it comes out
 * otherwise.
 *
 * @example
 * import { accessMatchers } from "portier/vitest";
 * expect.extend(accessMatchers);
 * expect(session).toPermit("view", "objects", sextant, "title");
 * expect(session).not.toPermit("delete", "objects", sextant);
 * expect(session).toPermitExactly("edit", "objects", sextant, ["label"]);
 */
export const accessMatchers = {
  /** On the record, or without one on any record at all. */
  toPermit(received: unknown, action: string, table: string, ...more: [record?: object, field?: string]): Matched {
    const session = sessionOf(received);
    const [record, field] = more;
    // What is not there would make every negated expectation come true.
    if (more.length > 0) mustBeRecord(session, table, record);
    const pass =
      record === undefined ? session.reach(action, table, field) !== "none" : session.may(action, table, record, field);
    return { pass, message: () => why(session, action, table, record, field) };
  },

  /** These fields of the record and no other. */
  toPermitExactly(
    received: unknown,
    action: string,
    table: string,
    record: object,
    fields: readonly string[],
  ): Matched {
    const session = sessionOf(received);
    mustBeRecord(session, table, record);
    const { plan } = internals(session);
    const declared = plan.of(table).table.fields;
    for (const name of fields) plan.of(table).field(name);
    const found = declared.map(({ name }) => name).filter((name) => session.may(action, table, record, name));
    const wrong = [...found, ...fields].find((name) => found.includes(name) !== fields.includes(name));
    const said = `expected ${fields.join(", ") || "nothing"}, found ${found.join(", ") || "nothing"}`;
    return { pass: wrong === undefined, message: () => `${said}\n\n${why(session, action, table, record, wrong)}` };
  },
};

function sessionOf(received: unknown): Session {
  internals(received as AnySession);
  return received as Session;
}

/** @throws PortierError for a table that is not there, and for what is not a record of it. */
function mustBeRecord(session: Session, table: string, record: object | undefined): void {
  const declared = internals(session).plan.of(table).table;
  if (isRow(record) && recordAddress(declared, record) !== undefined) return;
  const found = record === undefined ? "nothing" : JSON.stringify(record);
  const hint = "to ask without a record, leave it out; to ask of a field without one, use session.reach";
  throw portierError("wrong-call", { what: `${found} is not a record of "${table}"`, hint });
}

function why(
  session: Session,
  action: string,
  table: string,
  record: object | undefined,
  field: string | undefined,
): string {
  const declared = findTable(internals(session).ruleset.schema, table);
  const address = isRow(record) && declared !== undefined ? recordAddress(declared, record) : undefined;
  const what = `${table}${address === undefined ? "" : `/${address}`}`;
  return explanationText(explain(session, { action, table, record, field }), session.person ?? "this person", what);
}

/** The records of a document's tables that tests are given: table name to records. */
export type FixtureRecords<T extends DocumentTypes> = { readonly [K in TableOf<T>]?: readonly T["tables"][K]["row"][] };

/** What a test needs of a document and its data, typed by its tables. */
export interface AccessFixtures<T extends DocumentTypes> {
  /** The rules under test. */
  readonly portier: Portier<T>;
  /** The view of a person by their key, or without one of a visitor; opened once for each. */
  as(person?: PersonOf<T>): Session<T>;
  /** The view of a made-up person. */
  asPerson(person: object): Session<T>;
  /** The view of whoever holds these roles or is in these groups, and of whom nothing else is known. */
  asRole(...roles: readonly string[]): Session<T>;
  /** All records of a table. */
  records<K extends TableOf<T>>(table: K): readonly T["tables"][K]["row"][];
  /** The record with this key. @throws Error where there is none. */
  record<K extends TableOf<T>>(table: K, key: string | number): RecordOf<T, K>;
}

/**
 * Turns a document and data into what tests are written with. A plain object, to be used as it is or with
 * `test.extend`; sessions are of one instant, so that tests come out the same on every day.
 *
 * @param now the time of the sessions: an instant, or a date (its start in UTC). Default: when it is called.
 *
 * @example
 * const it = test.extend({ museum: accessFixtures(portier, data, { now: "2026-11-24" }) });
 * it("keepers write labels", ({ museum }) => {
 *   expect(museum.as("s-003")).toPermit("edit", "objects", museum.record("objects", "BM-SH-0001"), "label");
 * });
 */
export function accessFixtures<T extends DocumentTypes>(
  portier: Portier<T>,
  data: FixtureRecords<T>,
  { now = new Date().toISOString(), request }: { now?: string; request?: RequestOf<T> } = {},
): AccessFixtures<T> {
  const tables = data as Readonly<Record<string, readonly Row[]>>;
  const source = portier.source(tables);
  const instant = /^\d{4}-\d{2}-\d{2}$/.test(now) ? `${now}T00:00:00Z` : now;
  const atInstant: object = { ...request, now: instant };
  const asked = { request: atInstant as RequestOf<T> };
  const open = (person: SessionOptions<PersonOf<T>, RequestOf<T>>["person"]) =>
    portier.session({ ...(person === undefined ? {} : { person }), source, ...asked });
  const opened = new Map<string | number | undefined, Session<T>>();
  return {
    portier,
    as(person) {
      const people = portier.schema.people?.table.name;
      if (person !== undefined && (people === undefined || source.find(people, String(person)) === undefined)) {
        throw new Error(`there is no person "${person}" among the data of the test`);
      }
      const session = opened.get(person) ?? open(person);
      opened.set(person, session);
      return session;
    },
    asPerson: open,
    asRole: (...roles) => portier.sessionForRoles(roles, asked),
    records: (table) => (tables[table] ?? []) as readonly T["tables"][typeof table]["row"][],
    record(table, key) {
      const found = source.find(table, String(key));
      if (found === undefined) throw new Error(`there is no record "${key}" of "${table}" among the data of the test`);
      return found as T["tables"][typeof table]["row"];
    },
  };
}

/** The matchers as TypeScript sees them on `expect(...)`. */
export interface AccessMatchers {
  /** Without a record: on some record (`reach` is not `none`). */
  toPermit(action: string, table: string, record?: object, field?: string): void;
  /** The fields on which it is permitted, no more and no fewer. */
  toPermitExactly(action: string, table: string, record: object, fields: readonly string[]): void;
}

// Vitest 3, 4 and 5 each declare their own interface for matchers with other type parameters, and what extends it must have
// the same. Their assertions are all those of Chai, which has none.
declare global {
  namespace Chai {
    interface Assertion extends AccessMatchers {}
  }
}
