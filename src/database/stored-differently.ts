import type { Row } from "../conditions/source.js";
import type { DocumentTypes } from "../schema/document-types.js";
import type { Table } from "../schema/schema.js";
import type { ChangeResult } from "../session/change-result.js";
import { sameValue } from "../session/given-values.js";
import type { Session } from "../session/session.js";

// A column may round what it is given, a trigger may change it: what counts is what is stored.

/** How a change that was made is judged once more, with other values. */
export interface Again<T extends DocumentTypes> {
  /** Whether it made the record, which is then judged as if it were not there. */
  readonly isNew: boolean;
  judge(session: Session<T>, values: object): ChangeResult;
}

/**
 * The values that the database stores differently from what was checked: a column rounds, a trigger changes them. `since`: fields
 * that were changed again since then.
 */
export function storedDifferently(table: Table, changes: Row, stored: Row, since: readonly string[]): Row {
  const fields = table.fields.filter(({ name }) => Object.hasOwn(changes, name) && !since.includes(name));
  const other = fields.filter((field) => !sameValue(field, changes[field.name] ?? null, stored[field.name] ?? null));
  return Object.fromEntries(other.map(({ name }) => [name, stored[name] ?? null]));
}

/** Ends a transaction that would store what is not permitted, though what was given is: with what came out for each change. */
export class StoredDifferently extends Error {
  readonly results: readonly ChangeResult[];

  constructor(results: readonly ChangeResult[]) {
    super("what the database would store is not permitted");
    this.results = results;
  }
}

/** The answer to a change that was undone because of what the database would store. */
export function refusedAfterwards(error: unknown): ChangeResult {
  if (error instanceof StoredDifferently) return error.results[0] as ChangeResult;
  throw error;
}

/** What came out for a change that is not made after all, as another was not accepted. */
export function undone(outcome: ChangeResult, given: object): ChangeResult {
  return outcome.accepted ? { ...outcome, record: undefined, changes: only(outcome.changes, given) } : outcome;
}

/** Of what was written, what the person gave: defaults of a new record may be hidden from who makes it. */
export function only(changes: Row, given: object): Row {
  return Object.fromEntries(Object.entries(changes).filter(([name]) => Object.hasOwn(given, name)));
}
