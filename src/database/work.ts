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
import { type Listing, type ListQuery, listing, type Page } from "./listing.js";
import { ObservedSession } from "./observed-session.js";
import type { Observing } from "./observing.js";
import { foundAtOnce, type Held, NeedsTransaction, type Read, Records } from "./records.js";
import { openingReads, type Remembered } from "./remembered.js";
import { deleteRecord, hasAddress, insertRecord, selectRecords, updateRecord } from "./statements.js";
import { type Again, only, StoredDifferently, storedDifferently, undone } from "./stored-differently.js";

/** Whose work it is. */
export interface Worker {
  readonly identity: Identity;
  readonly remembered: Remembered;
  readonly onDiagnostic?: ((diagnostic: Diagnostic) => void) | undefined;
  readonly messages?: Partial<UserMessages> | undefined;
}

/** How work is done. */
export interface WorkOptions {
  readonly observing?: Observing | undefined;
  /** Whether it is a transaction. Default: true. */
  readonly isLasting?: boolean;
  /** Whether it is to be told how new an answer is: see {@link Work.version}. Default: false. */
  readonly isVersioned?: boolean;
}

/** What changes came to, as far as it is written: `keys` of their records, and these as they are stored. */
interface Written<T extends DocumentTypes> {
  readonly outcomes: readonly ChangeResult[];
  readonly given: readonly object[];
  readonly again: readonly (Again<T> | undefined)[];
  readonly keys: readonly (string | undefined)[];
  readonly rows: ReadonlyMap<string | undefined, Row | undefined>;
}

/** How often a list is begun anew, because the current user is not any more as they were. */
const fewTries = 2;
/** How many records of a list stand in one statement with what else it is about. */
const mostOfPage = 1_000;

/**
 * One transaction in which one person's questions are answered, and changes judged and written one after the other; or a few
 * statements that only read, of which the last sees all that the answer is about (`isLasting: false`).
 */
export class Work<T extends DocumentTypes = AnyDocument> {
  readonly inside: Connection;
  readonly #portier: Portier<T>;
  readonly #identity: Identity;
  readonly #messages: Partial<UserMessages> | undefined;
  readonly #records: Records;
  readonly #remembered: Remembered;
  readonly #isLasting: boolean;
  readonly #onDiagnostic: (diagnostic: Diagnostic) => void;
  readonly #observing: Observing | undefined;

  constructor(
    portier: Portier<T>,
    inside: Connection,
    { identity, remembered, onDiagnostic = firstOnConsole(), messages }: Worker,
    { observing, isLasting = true, isVersioned = false }: WorkOptions = {},
  ) {
    this.inside = inside;
    this.#observing = observing;
    this.#portier = portier;
    this.#identity = identity;
    this.#messages = messages;
    this.#onDiagnostic = onDiagnostic;
    this.#remembered = remembered;
    this.#isLasting = isLasting;
    this.#records = new Records(inside, portier.schema, { kept: remembered.kept, isLasting, isVersioned });
    this.#expect([]);
  }

  /** How many changes there were of what anybody may do, when the answer was read; undefined where nothing was read. */
  get version(): bigint | undefined {
    return this.#records.version;
  }

  /** Whether it could have been done by a few statements, without a transaction. */
  get isShort(): boolean {
    return this.#records.isLittle;
  }

  /** What opening the session is going to read, and some records: it is fetched with the first statement. */
  #expect(records: readonly Read[]): void {
    const known = this.#remembered.opening(this.#identity)?.map(({ read }) => read);
    this.#records.expect([...(known ?? openingReads(this.#portier.schema, this.#identity)), ...records]);
  }

  /** Asks about stored records, undefined where there is none; see {@link ask}. */
  askAbout<R>(
    name: TableOf<T>,
    keys: readonly string[],
    question: (session: Session<T>, records: readonly (Row | undefined)[]) => R,
  ): Promise<R> {
    const { name: table } = this.table(name);
    this.#expect(keys.map((key) => ({ kind: "find", table, key })));
    const find = (key: string) => this.#records.find(name, key);
    return this.ask((session) => question(session, keys.map(find)));
  }

  /** Only the findings of the answer that counts are reported: before it, what is not fetched yet looks missing. */
  async ask<R>(question: (session: Session<T>) => R): Promise<R> {
    const onDiagnostic = this.#onDiagnostic;
    let diagnostics: Diagnostic[] = [];
    let noted: Noted[] = [];
    let isAnswered = false;
    const observing = this.#observing;
    let opening: readonly Held[] = [];
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
      opening = this.#records.askedSoFar();
      if (observing === undefined) return question(session);
      const observed = new ObservedSession<T>(session, (more) =>
        isAnswered ? observing.note(more, observed.observed) : noted.push(...more),
      );
      const given = question(observed);
      observing.of = observed.observed;
      return given;
    });
    isAnswered = true;
    this.#remembered.setOpening(this.#identity, opening);
    if (observing?.of !== undefined) observing.note(noted, observing.of);
    for (const diagnostic of diagnostics) onDiagnostic(diagnostic);
    return answer;
  }

  /**
   * The records of a table as the person sees them: see {@link UserDatabase.list}. Built on who they were when they were last
   * asked for, which the statement that lists looks at, too.
   */
  async list<R>(name: TableOf<T>, queryOf: (session: Session<T>) => ListQuery): Promise<Page<R>> {
    const known = this.#remembered.opening(this.#identity);
    if (known !== undefined && !this.#isLasting) this.#records.suppose(known);
    for (let tries = 0; tries <= fewTries; tries++) {
      let asked: Listing<R> & { readonly action: ShowAction };
      try {
        asked = await this.#listing<R>(name, queryOf);
      } catch (error) {
        // That somebody may not ask, or asks what is wrong, counts like any answer: of who they are now.
        const isOfNow = error instanceof NeedsTransaction || (await this.#records.confirm([])).isSo;
        if (isOfNow) throw error;
        continue;
      }
      const { isSo, found } = await this.#records.confirm(asked.selects);
      if (!isSo) continue;
      const listed = asked.page(found);
      await this.#observeShown(name, listed.records as readonly Row[], asked.action);
      return listed;
    }
    throw new NeedsTransaction();
  }

  async #listing<R>(name: TableOf<T>, queryOf: (session: Session<T>) => ListQuery) {
    const { session, query } = await this.ask((one) => ({ session: one, query: queryOf(one) }));
    // A long list takes longer to put in order once more than a transaction to begin.
    const isLong = (query.limit ?? Number.POSITIVE_INFINITY) > mostOfPage;
    if (isLong && !this.#isLasting) throw new NeedsTransaction();
    const listed = listing<R>(this.inside.dialect, session as unknown as Session, name, query);
    return { ...listed, action: query.action ?? "list" };
  }

  /** Notes what of the records that somebody was shown would have been hidden from them. */
  async #observeShown(name: TableOf<T>, records: readonly Row[], action: ShowAction): Promise<void> {
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
