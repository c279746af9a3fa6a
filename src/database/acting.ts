import type { Row } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { portierError } from "../schema/problems.js";
import type { Table } from "../schema/schema.js";
import type { AnyTables, TableOf, TableTypes } from "../schema/table-types.js";
import { type Acceptance, type ChangeOptions, invalid, keyTakenMessage } from "../session/acceptance.js";
import type { RoleClaim } from "../session/given-roles.js";
import type { ManyAcceptance } from "../session/many.js";
import type { Portier } from "../session/portier.js";
import type { Finding, Masked, Session } from "../session/session.js";
import type { Connection } from "./connection.js";
import { type Listed, type ListQuery, listRecords } from "./listing.js";
import { Records } from "./records.js";
import { deleteRecord, hasAddress, insertRecord, selectRecords, updateRecord } from "./statements.js";

export interface ActingOptions {
  /** Who acts for that person: the key of another, with a delegation that runs. */
  readonly actedBy?: string;
  /** Roles that the sign-in brings along. */
  readonly claims?: Iterable<RoleClaim>;
  /** The values that the document declares under `request`. */
  readonly request?: Readonly<Record<string, unknown>>;
  /** Told of faults and of bad data. Default: nobody. */
  readonly report?: (finding: Finding) => void;
}

/** Options of a change in a database. */
export interface ActingChange extends ChangeOptions {
  /**
   * Whether the record, as the person sees it when it is locked (opened, or where they may only list it, listed), is the
   * one that they meant to change. If not, nothing is
   * done, and {@link RecordChanged} is thrown. Not asked about a record that is not there.
   */
  readonly expecting?: (seen: Row | undefined) => boolean;
}

/** Options of making a record in a database. */
export interface ActingCreate extends ChangeOptions {
  /**
   * What else is done in the same transaction once the record is accepted, before it is written: making room for a row,
   * say. It is the application's own work and not judged. It may run again when another transaction stood in the way.
   */
  readonly before?: (inside: Connection, record: Row) => Promise<void>;
}

/** One of several changes that are made together. */
export interface KeyedChange {
  /** The record's address: the key as text, several values joined by `/`. */
  readonly key: string;
  readonly values: Row;
}

/** How often a change is begun anew when another transaction stood in its way. */
const tryLimit = 5;

/**
 * One person at work on a database. Every call reads who asks anew, so a role that was taken away counts at once.
 *
 * A change runs in one transaction: who asks, the record (locked until the end) and whatever the rules read of others are
 * read in it, judged as `session.accept` judges, and what is accepted is written. A change that is not accepted writes
 * nothing; one that fails is rolled back and throws what the driver threw.
 */
export class Acting<T extends TableTypes = AnyTables> {
  readonly #portier: Portier<T>;
  readonly #connection: Connection;
  readonly #person: string | number | null;
  readonly #options: ActingOptions;

  /** Made by `openDatabase(...).as(...)`, not by applications. */
  constructor(portier: Portier<T>, connection: Connection, person: string | number | null, options: ActingOptions) {
    this.#portier = portier;
    this.#connection = connection;
    this.#person = person;
    this.#options = options;
  }

  /**
   * Asks anything of the person's session, with the records that the answer needs fetched. `question` is called again
   * for as long as it reads what has not been fetched, so it must do nothing but ask.
   *
   * @example
   * await database.as("s-003").ask((session) => session.form("objects", record));
   */
  ask<R>(question: (session: Session<T>) => R): Promise<R> {
    return this.#inTransaction((_inside, records) => this.#asking(records, question));
  }

  /**
   * The person's session, for `where` and `maskedSelect`, `reach`, and questions that read no other record; one that does
   * is a fault, and so a denial: use {@link ask}.
   */
  session(): Promise<Session<T>> {
    return this.ask((session) => session);
  }

  /**
   * Asks about one stored record, undefined where there is none (or none that the key can name); otherwise as {@link ask}.
   * What it is told of it is the whole record: show what `session.mask` or `session.form` make of it.
   */
  about<R>(table: TableOf<T>, key: string, question: (session: Session<T>, record: Row | undefined) => R): Promise<R> {
    return this.#inTransaction(async (inside, records) => {
      const [record] = await this.#find(inside, records, table, [key], false);
      return this.#asking(records, (session) => question(session, record));
    });
  }

  /** The records of a table as the person sees them, filtered, sorted and cut by the database. See {@link ListQuery}. */
  list<K extends TableOf<T>>(table: K, query: ListQuery = {}): Promise<Listed<Masked<T, K>>> {
    return this.#inTransaction(async (inside, records) => {
      const session = await this.#asking(records, (one) => one);
      return listRecords<Masked<T, K>>(inside, session as unknown as Session, table, query);
    });
  }

  /** Changes one record. `key` is its address: the key as text, several values joined by `/`. */
  edit(table: TableOf<T>, key: string, values: Row, given: ActingChange = {}): Promise<Acceptance> {
    const { expecting, ...options } = given;
    return this.#inTransaction(async (inside, records) => {
      const [before] = await this.#locked(inside, records, table, [key]);
      await this.#expect(records, table, before, expecting);
      const outcome = await this.#asking(records, (session) => session.accept("edit", table, before, values, options));
      if (outcome.accepted && before !== undefined)
        await updateRecord(inside, this.#table(table), before, outcome.changes);
      return outcome;
    });
  }

  /** Makes a record. The accepted record holds what the database filled in. */
  async create(table: TableOf<T>, values: Row, { before, ...options }: ActingCreate = {}): Promise<Acceptance> {
    try {
      return await this.#inTransaction(async (inside, records) => {
        const outcome = await this.#asking(records, (session) => session.accept("create", table, values, options));
        if (!outcome.accepted || outcome.record === undefined) return outcome;
        await before?.(inside, outcome.record);
        return { ...outcome, record: await this.#insert(inside, table, outcome.record, 0) };
      });
    } catch (error) {
      await this.#rethrowUnlessTaken(error);
      return this.#keyTaken(table);
    }
  }

  /** Deletes a record. */
  delete(table: TableOf<T>, key: string, options?: ActingChange): Promise<Acceptance> {
    return this.act(
      "delete",
      table,
      key,
      (inside, before) => deleteRecord(inside, this.#table(table), before),
      options,
    );
  }

  /** A custom action: `work` runs in the same transaction when it is accepted, on the record as it is locked. */
  act<K extends TableOf<T>>(
    action: "delete" | T[K]["action"],
    table: K,
    key: string,
    work: (inside: Connection, record: Row) => Promise<void>,
    { expecting, ...options }: ActingChange = {},
  ): Promise<Acceptance> {
    return this.#inTransaction(async (inside, records) => {
      const [before] = await this.#locked(inside, records, table, [key]);
      await this.#expect(records, table, before, expecting);
      const outcome = await this.#asking(records, (session) => session.accept(action, table, before, options));
      if (outcome.accepted && before !== undefined) await work(inside, before);
      return outcome;
    });
  }

  /** The same values for many records: all of it is done, or nothing. */
  editMany(table: TableOf<T>, keys: readonly string[], values: Row, options?: ChangeOptions): Promise<ManyAcceptance> {
    return this.#inTransaction(async (inside, records) => {
      const before = await this.#locked(inside, records, table, keys);
      const outcome = await this.#asking(records, (session) => session.acceptBulk(table, before, values, options));
      if (!outcome.accepted) return outcome;
      for (const [index, result] of outcome.results.entries()) {
        const record = before[index];
        if (result.accepted && record !== undefined)
          await updateRecord(inside, this.#table(table), record, result.changes);
      }
      return outcome;
    });
  }

  /**
   * Edits of many records, each with values of its own, such as a block that is pasted into a sheet: all of it is done, or
   * nothing. Each is judged as an edit by itself; a record that is named twice is changed twice, in this order. What rules
   * ask of other records is asked of them as they were before all of it.
   */
  editEach(table: TableOf<T>, changes: readonly KeyedChange[], options: ChangeOptions = {}): Promise<ManyAcceptance> {
    return this.#inTransaction(async (inside, records) => {
      const keys = [...new Set(changes.map(({ key }) => key))];
      const stored = await this.#locked(inside, records, table, keys);
      const steps = await this.#asking(records, (session) => {
        const latest = new Map(keys.map((key, index) => [key, stored[index]]));
        return changes.map(({ key, values }) => {
          const before = latest.get(key);
          const result = session.accept("edit", table, before, values, options);
          if (result.accepted) latest.set(key, result.record);
          return { before, result };
        });
      });
      const results = steps.map(({ result }) => result);
      if (!results.every(({ accepted }) => accepted)) return { accepted: false, results };
      for (const { before, result } of steps) {
        if (result.accepted && before !== undefined)
          await updateRecord(inside, this.#table(table), before, result.changes);
      }
      return { accepted: true, results };
    });
  }

  /** New records from a file: all of them are made, or none. */
  async createMany(table: TableOf<T>, lines: readonly Row[], options?: ChangeOptions): Promise<ManyAcceptance> {
    let judged: readonly Acceptance[] = [];
    try {
      return await this.#inTransaction(async (inside, records) => {
        const outcome = await this.#asking(records, (session) => session.acceptImport(table, lines, options));
        if (!outcome.accepted) return outcome;
        judged = outcome.results;
        const results: Acceptance[] = [];
        for (const [line, result] of judged.entries()) {
          if (!result.accepted || result.record === undefined) results.push(result);
          else results.push({ ...result, record: await this.#insert(inside, table, result.record, line) });
        }
        return { accepted: true, results };
      });
    } catch (error) {
      const line = await this.#rethrowUnlessTaken(error);
      return { accepted: false, results: judged.map((one, index) => (index === line ? this.#keyTaken(table) : one)) };
    }
  }

  /** Runs work in a transaction of its own, anew while others stand in its way. */
  async #inTransaction<R>(work: (inside: Connection, records: Records) => Promise<R>): Promise<R> {
    for (let attempt = 1; ; attempt++) {
      try {
        return await this.#connection.transaction((inside) => work(inside, new Records(inside, this.#portier.schema)));
      } catch (error) {
        if (attempt === tryLimit || !this.#connection.isConflict(error)) throw error;
      }
    }
  }

  /** Only the findings of the answer that counts are reported: before it, what is not fetched yet looks missing. */
  async #asking<R>(records: Records, question: (session: Session<T>) => R): Promise<R> {
    const { request, report, actedBy, claims } = this.#options;
    let findings: Finding[] = [];
    const answer = await records.read(() => {
      findings = [];
      const session = this.#portier.session({
        person: this.#person,
        source: records,
        report: (finding) => findings.push(finding),
        ...(request === undefined ? {} : { request }),
        ...(actedBy === undefined ? {} : { actedBy }),
        ...(claims === undefined ? {} : { claims }),
      });
      return question(session);
    });
    for (const finding of findings) report?.(finding);
    return answer;
  }

  #table(name: string): Table {
    const { tables } = this.#portier.schema;
    const table = tables.get(name);
    if (table === undefined) throw portierError("unknown-table", { name, candidates: tables.keys() });
    return table;
  }

  /** Whether the record is still as the person saw it. */
  async #expect(records: Records, table: TableOf<T>, record: Row | undefined, expecting: ActingChange["expecting"]) {
    if (expecting === undefined || record === undefined) return;
    const seen = await this.#asking(
      records,
      (session) => session.mask(table, record) ?? session.mask(table, record, "list"),
    );
    if (!expecting(seen)) throw new RecordChanged(`a record of "${table}" is not any more as it was seen`);
  }

  /** The records in the order of their keys, undefined where there is none; nobody else changes them until the end. */
  #locked(inside: Connection, records: Records, name: string, keys: readonly string[]): Promise<(Row | undefined)[]> {
    return this.#find(inside, records, name, keys, true);
  }

  async #find(
    inside: Connection,
    records: Records,
    name: string,
    keys: readonly string[],
    forUpdate: boolean,
  ): Promise<(Row | undefined)[]> {
    const table = this.#table(name);
    const condition = hasAddress(inside, table, keys);
    const rows = condition === undefined ? [] : await selectRecords(inside, table, condition, { forUpdate });
    const byAddress = new Map(rows.map((row) => [recordAddress(table, row), row]));
    for (const row of rows) records.add(table, row);
    return keys.map((key) => byAddress.get(key));
  }

  async #insert(inside: Connection, name: string, record: Row, line: number): Promise<Row> {
    const table = this.#table(name);
    try {
      return await insertRecord(inside, table, record);
    } catch (error) {
      throw inside.isDuplicate(error) ? new Duplicate(error, table, record, line) : error;
    }
  }

  /** The line whose key somebody else took first; any other failure is thrown on, as the driver threw it. */
  async #rethrowUnlessTaken(error: unknown): Promise<number> {
    if (!(error instanceof Duplicate)) throw error;
    const { cause, table, record, line } = error;
    const address = recordAddress(table, record);
    const condition = address === undefined ? undefined : hasAddress(this.#connection, table, [address]);
    const found = condition === undefined ? [] : await selectRecords(this.#connection, table, condition);
    if (found.length === 0) throw cause;
    return line;
  }

  #keyTaken(name: string): Acceptance {
    const field = this.#table(name).key[0]?.name ?? "";
    return invalid([{ field, reason: "key-taken", message: keyTakenMessage }]);
  }
}

/** A record was not any more as the person saw it: somebody else has changed it. Nothing was done. */
export class RecordChanged extends Error {
  override readonly name = "RecordChanged";
}

/** A value was there already when a new record was written. */
class Duplicate extends Error {
  override readonly cause: unknown;
  readonly table: Table;
  readonly record: Row;
  readonly line: number;

  constructor(cause: unknown, table: Table, record: Row, line: number) {
    super("duplicate");
    this.cause = cause;
    this.table = table;
    this.record = record;
    this.line = line;
  }
}
