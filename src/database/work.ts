import type { Row } from "../conditions/source.js";
import type { ShowAction } from "../rules/action-tree.js";
import { recordAddress } from "../schema/address.js";
import type { AnyDocument, DocumentTypes, PersonOf, RequestOf, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { Table } from "../schema/schema.js";
import type { ChangeResult } from "../session/change-result.js";
import type { Identity } from "../session/identity.js";
import type { Noted } from "../session/observation.js";
import type { Portier } from "../session/portier.js";
import { firstOnConsole } from "../session/reading.js";
import { seenOf } from "../session/seen.js";
import type { Session } from "../session/session.js";
import type { Diagnostic } from "../session/session-options.js";
import type { UserMessages } from "../session/user-messages.js";
import type { Connection } from "./connection.js";
import type { KeptLists } from "./kept-lists.js";
import { ObservedSession } from "./observed-session.js";
import type { Observing } from "./observing.js";
import { foundAtOnce, Records } from "./records.js";
import { deleteRecord, hasAddress, insertRecord, selectRecords, updateRecord } from "./statements.js";
import { type Again, only, StoredDifferently, storedDifferently, undone } from "./stored-differently.js";

/** Whose work it is. */
export interface Worker {
  readonly identity: Identity;
  readonly kept: KeptLists;
  readonly onDiagnostic?: ((diagnostic: Diagnostic) => void) | undefined;
  readonly messages?: Partial<UserMessages> | undefined;
}

/** What changes came to, as far as it is written: `keys` of their records, and these as they are stored. */
interface Written<T extends DocumentTypes> {
  readonly outcomes: readonly ChangeResult[];
  readonly given: readonly object[];
  readonly again: readonly (Again<T> | undefined)[];
  readonly keys: readonly (string | undefined)[];
  readonly rows: ReadonlyMap<string | undefined, Row | undefined>;
}

/** One transaction in which one person's questions are answered, and changes judged and written one after the other. */
export class Work<T extends DocumentTypes = AnyDocument> {
  readonly inside: Connection;
  readonly #portier: Portier<T>;
  readonly #identity: Identity;
  readonly #messages: Partial<UserMessages> | undefined;
  readonly #records: Records;
  readonly #onDiagnostic: (diagnostic: Diagnostic) => void;
  readonly #observing: Observing | undefined;

  constructor(
    portier: Portier<T>,
    inside: Connection,
    { identity, kept, onDiagnostic = firstOnConsole(), messages }: Worker,
    observing?: Observing,
  ) {
    this.inside = inside;
    this.#observing = observing;
    this.#portier = portier;
    this.#identity = identity;
    this.#messages = messages;
    this.#onDiagnostic = onDiagnostic;
    this.#records = new Records(inside, portier.schema, kept);
  }

  /** Only the findings of the answer that counts are reported: before it, what is not fetched yet looks missing. */
  async ask<R>(question: (session: Session<T>) => R): Promise<R> {
    const onDiagnostic = this.#onDiagnostic;
    let diagnostics: Diagnostic[] = [];
    let noted: Noted[] = [];
    let isAnswered = false;
    const observing = this.#observing;
    const answer = await this.#records.read(() => {
      diagnostics = [];
      noted = [];
      const session = this.#portier.session({
        ...(this.#identity as Identity<PersonOf<T>, RequestOf<T>>),
        ...(this.#messages && { messages: this.#messages }),
        source: this.#records,
        // A session that is kept goes on being asked.
        onDiagnostic: (diagnostic) => (isAnswered ? onDiagnostic(diagnostic) : diagnostics.push(diagnostic)),
      });
      if (observing === undefined) return question(session);
      const observed = new ObservedSession<T>(session, (more) =>
        isAnswered ? observing.note(more, observed.observed) : noted.push(...more),
      );
      const given = question(observed);
      observing.of = observed.observed;
      return given;
    });
    isAnswered = true;
    if (observing?.of !== undefined) observing.note(noted, observing.of);
    for (const diagnostic of diagnostics) onDiagnostic(diagnostic);
    return answer;
  }

  /** Notes what of the records that somebody was shown would have been hidden from them. */
  async observeShown(name: TableOf<T>, records: readonly Row[], action: ShowAction): Promise<void> {
    if (this.#observing === undefined || records.length === 0) return;
    await this.ask((session) => {
      if (session instanceof ObservedSession) session.noteShown(name, records, action);
    });
  }

  table(name: string): Table {
    const { tables } = this.#portier.schema;
    const table = tables.get(name);
    if (table === undefined) throw portierError("unknown-table", { name, candidates: tables.keys() });
    return table;
  }

  /** The records in the order of their keys, undefined where there is none. Locked, nobody else changes them until the end. */
  async find(name: string, keys: readonly string[], isLocked: boolean): Promise<(Row | undefined)[]> {
    const table = this.table(name);
    const rows: Row[] = [];
    for (let from = 0; from < keys.length; from += foundAtOnce) {
      const condition = hasAddress(this.inside, table, keys.slice(from, from + foundAtOnce));
      const options = { forUpdate: isLocked };
      if (condition !== undefined) rows.push(...(await selectRecords(this.inside, table, condition, options)));
    }
    const byAddress = new Map(rows.map((row) => [recordAddress(table, row), row]));
    for (const row of rows) this.#records.add(table, row);
    return keys.map((key) => byAddress.get(key));
  }

  /** What is known of records, or of one table's, is asked anew: something was written that rules may read. */
  forget(table?: string): void {
    this.#records.forget(table);
  }

  async insert(name: string, record: Row): Promise<Row> {
    const made = await insertRecord(this.inside, this.table(name), record);
    this.forget(name);
    return made;
  }

  async update(name: string, before: Row, changes: Row): Promise<void> {
    if (Object.keys(changes).length === 0) return;
    await updateRecord(this.inside, this.table(name), before, changes);
    this.forget(name);
  }

  async remove(name: string, before: Row): Promise<void> {
    await deleteRecord(this.inside, this.table(name), before);
    this.forget(name);
  }

  /**
   * A change as it is told to the person: with the record as they see it then, whatever was judged and written. `again` judges it
   * with other values, where the database stores some of them differently.
   *
   * @throws StoredDifferently where that is not accepted.
   */
  async told(name: TableOf<T>, outcome: ChangeResult, given: object, again?: Again<T>): Promise<ChangeResult> {
    const [told] = await this.toldEach(name, [outcome], [given], [again]);
    return told as ChangeResult;
  }

  async toldEach(
    name: TableOf<T>,
    outcomes: readonly ChangeResult[],
    given: readonly object[],
    again: readonly (Again<T> | undefined)[] = [],
  ): Promise<readonly ChangeResult[]> {
    const table = this.table(name);
    const keys = outcomes.map((one) => (one.accepted && one.record ? recordAddress(table, one.record) : undefined));
    const found = await this.find(
      name,
      keys.filter((key) => key !== undefined),
      false,
    );
    const rows = new Map(found.map((row) => [row && recordAddress(table, row), row]));
    await this.#checkStored(name, { outcomes, given, again, keys, rows });
    const seen = await this.ask((session) =>
      keys.map((key) => seenOf(session as unknown as Session, name, key === undefined ? undefined : rows.get(key))),
    );
    return outcomes.map((outcome, index) => {
      if (!outcome.accepted) return outcome;
      return { ...outcome, record: seen[index], changes: only(outcome.changes, given[index] ?? {}) };
    });
  }

  /**
   * Checks what is stored where it is not what was given: a column rounds, a trigger changes it.
   *
   * @throws StoredDifferently where that is not permitted.
   */
  async #checkStored(name: TableOf<T>, { outcomes, given, again, keys, rows }: Written<T>): Promise<void> {
    const table = this.table(name);
    // Of a record that was changed twice, each field counts where it was changed last.
    const later = new Map<string, string[]>();
    for (const [index, outcome] of [...outcomes.entries()].reverse()) {
      const key = keys[index];
      const stored = rows.get(key);
      const { isNew, judge } = again[index] ?? {};
      if (!outcome.accepted || key === undefined || stored === undefined || judge === undefined) continue;
      const since = later.get(key) ?? [];
      later.set(key, [...since, ...Object.keys(outcome.changes)]);
      const different = storedDifferently(table, outcome.changes, stored, since);
      if (Object.keys(different).length === 0) continue;
      this.#records.hide(isNew === true ? { table: name, key } : undefined);
      const judged = await this.ask((session) => judge(session, { ...given[index], ...different }));
      this.#records.hide();
      if (judged.accepted) continue;
      throw new StoredDifferently(
        outcomes.map((one, other) => (other === index ? judged : undone(one, given[other] ?? {}))),
      );
    }
  }
}
