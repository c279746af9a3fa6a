import type { Row, Source } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { portierError } from "../schema/problems.js";
import { findTable, type Schema, type Table } from "../schema/schema.js";
import { join, raw } from "../sql/fragment.js";
import type { Connection, DriverRow } from "./connection.js";
import { KeptLists, protectionsOf } from "./kept-lists.js";
import { versionFrom, versionSelect } from "./state.js";
import { decodeRow, hasAddress, holds, recordsSelect } from "./statements.js";
import { inGroups, type Select, type SelectOrder, selectTogether } from "./together.js";

/** Something that is read of a database. */
export type Read =
  | { readonly kind: "find"; readonly table: string; readonly key: string }
  | { readonly kind: "referring"; readonly table: string; readonly field: string; readonly key: string }
  | { readonly kind: "all"; readonly table: string };

/** What was read, and what there was. */
export interface Held {
  readonly read: Read;
  /** Of a record that was looked for none or one. */
  readonly rows: readonly Row[];
  /** Whether it came along with something else. */
  readonly isBeside?: boolean;
}

/** How the records of a database are read. */
export interface RecordsOptions {
  /** What is protected, as it was read before. */
  readonly kept?: KeptLists;
  /**
   * Whether what was read stays as it is while more is read, as in a transaction. Where it does not, all of it is read again
   * along with what is missing, by one statement, so that an answer is always about one instant. Default: true.
   */
  readonly isLasting?: boolean;
  /** Whether the count of changes is read with them: see {@link Records.version}. Default: false. */
  readonly isVersioned?: boolean;
}

/** How many times an answer may turn out to need more records; a manager line takes one for each step. */
const passLimit = 1_000;
/** How many records are looked for in a statement that reads something else, too. */
const fewKeys = 20;
/** How many times all may be read again; beyond, a transaction is less work. */
const fewPasses = 3;
/** How many records are asked for by their addresses in one statement: SQLite takes no more than 1,000 terms. */
export const foundAtOnce = 200;

/** Ends what needs more than a few statements can give at one instant: it is to be done in a transaction. */
export class NeedsTransaction extends Error {}

/**
 * Records of a database for questions that are answered in memory. Deciding is synchronous and cannot wait: what it asks
 * for is noted, fetched, and the question asked again, until nothing is missing. Only that last answer counts.
 */
export class Records implements Source {
  readonly #connection: Connection;
  readonly #schema: Schema;
  readonly #kept: KeptLists;
  readonly #isLasting: boolean;
  readonly #isVersioned: boolean;
  #version: bigint | undefined;
  #held = new Map<string, Held>();
  readonly #misses = new Map<string, Read>();
  /** What the question under way has asked for. */
  readonly #asked = new Map<string, Read>();
  #expected: readonly Read[] = [];
  #hidden: { readonly table: string; readonly key: string } | undefined;
  #isOpen = false;
  #fetches = 0;
  #isMuch = false;

  constructor(
    connection: Connection,
    schema: Schema,
    { kept = new KeptLists(), isLasting = true, isVersioned = false }: RecordsOptions = {},
  ) {
    this.#kept = kept;
    this.#connection = connection;
    this.#schema = schema;
    this.#isLasting = isLasting;
    this.#isVersioned = isVersioned;
  }

  find(table: string, key: string): Row | undefined {
    if (this.#hidden?.table === table && this.#hidden.key === key) return undefined;
    return this.#rowsOf({ kind: "find", table, key })[0];
  }

  referring(table: string, field: string, key: string): readonly Row[] {
    return this.#shown(table, this.#rowsOf({ kind: "referring", table, field, key }));
  }

  all(table: string): readonly Row[] {
    return this.#shown(table, this.#rowsOf({ kind: "all", table }));
  }

  #rowsOf(read: Read): readonly Row[] {
    const id = idOf(read);
    this.#asked.set(id, read);
    const held = this.#held.get(id);
    if (held !== undefined) return held.rows;
    if (!this.#isOpen) {
      const what = `a record of "${read.table}" was needed that is not in memory`;
      throw portierError("wrong-call", { what, hint: "ask inside of ask(...), which fetches what the answer needs" });
    }
    this.#misses.set(id, read);
    return none;
  }

  /** Hides one record, as if it were not made yet; none where nothing is given. */
  hide(hidden?: { readonly table: string; readonly key: string }): void {
    this.#hidden = hidden;
  }

  #shown(name: string, rows: readonly Row[]): readonly Row[] {
    const table = this.#hidden?.table === name ? findTable(this.#schema, name) : undefined;
    return table === undefined ? rows : rows.filter((row) => recordAddress(table, row) !== this.#hidden?.key);
  }

  /** Something was written, in one table or in any: what is asked next of it is fetched anew. */
  forget(table?: string): void {
    for (const [id, { read }] of this.#held) if (table === undefined || read.table === table) this.#held.delete(id);
  }

  /** A record as it is known from elsewhere. */
  add(table: Table, row: Row): void {
    const key = recordAddress(table, row);
    if (key !== undefined) this.#hold({ kind: "find", table: table.name, key }, [row], true);
  }

  /** All records whose field holds one of some keys, as they are known from elsewhere. */
  addReferring({ name }: Table, field: string, keys: Iterable<string>, rows: readonly Row[]): void {
    const lists = new Map([...keys].map((key) => [key, [] as Row[]]));
    for (const row of rows) lists.get(String(row[field]))?.push(row);
    for (const [key, list] of lists) this.#hold({ kind: "referring", table: name, field, key }, list, true);
  }

  #hold(read: Read, rows: readonly Row[], isBeside = false): void {
    this.#held.set(idOf(read), { read, rows, isBeside });
  }

  /** What will be asked for, as far as can be told: it is fetched at once, with the first that is. */
  expect(reads: readonly Read[]): void {
    this.#expected = reads;
  }

  /** What was there when it was last read. An answer that is built on it counts only once {@link confirm} has found it so. */
  suppose(all: readonly Held[]): void {
    for (const { read, rows } of all) this.#hold(read, rows);
    this.#expected = [];
  }

  /** What the question under way has asked for so far, with what there was. */
  askedSoFar(): readonly Held[] {
    return [...this.#asked.keys()].flatMap((id) => this.#held.get(id) ?? []);
  }

  /** How many changes there were of what anybody may do, where that was read last; undefined where nothing was read. */
  get version(): bigint | undefined {
    return this.#version;
  }

  /** Whether what was read would have been read without a transaction, too. */
  get isLittle(): boolean {
    return this.#fetches <= fewPasses && !this.#isMuch;
  }

  /** Runs work that reads these records until all that it reads is there. */
  async read<T>(work: () => T): Promise<T> {
    const expected = this.#expected;
    this.#expected = [];
    if (expected.length > 0) await this.#fetch(expected);
    for (let pass = 0; pass < passLimit; pass++) {
      let outcome: { readonly value: T } | { readonly error: unknown };
      this.#asked.clear();
      this.#isOpen = true;
      try {
        outcome = { value: work() };
      } catch (error) {
        outcome = { error };
      } finally {
        this.#isOpen = false;
      }
      if (this.#misses.size === 0) {
        if ("error" in outcome) throw outcome.error;
        return outcome.value;
      }
      const misses = [...this.#misses.values()];
      this.#misses.clear();
      await this.#fetch(this.#isLasting ? misses : [...this.#again(), ...misses]);
    }
    throw portierError("fault", { what: `a question needed more than ${passLimit} rounds of reading records` });
  }

  /**
   * Runs selects on the database as it is when all is there that was asked for. Whether that is still as it was supposed:
   * if not, it is read anew now, and what was answered before counts no more.
   */
  async confirm(
    selects: readonly Select[],
  ): Promise<{ readonly isSo: boolean; readonly found: readonly (readonly DriverRow[])[] }> {
    if (this.#isLasting) return { isSo: true, found: await selectTogether(this.#connection, selects) };
    const [before, reads] = [this.#held, this.#again()];
    const found = await this.#fetch(reads, selects);
    const isSame = (read: Read) => {
      const [one, other] = [before.get(idOf(read))?.rows, this.#held.get(idOf(read))?.rows];
      // What is protected is the same list for as long as nothing has changed.
      return one === other || JSON.stringify(one) === JSON.stringify(other);
    };
    return { isSo: reads.every(isSame), found };
  }

  /** What was asked for and fetched by itself. */
  #again(): Read[] {
    const held = [...this.#asked.keys()].flatMap((id) => this.#held.get(id) ?? []);
    return held.filter(({ isBeside }) => isBeside !== true).map(({ read }) => read);
  }

  /** Fetches all of it, and gives the rows of other selects that are run beside it. */
  async #fetch(reads: readonly Read[], others: readonly Select[] = []): Promise<readonly (readonly DriverRow[])[]> {
    if (!this.#isLasting) this.#held = new Map();
    const fetching = [...this.#findings(reads), ...reads.flatMap((read) => this.#listing(read) ?? [])];
    const small = fetching.filter(({ isWhole }) => !isWhole);
    const versions = this.#isVersioned ? [versionSelect] : [];
    const selects = [...others, ...small.map(({ select }) => select), ...versions];
    this.#fetches++;
    const groups = inGroups(selects);
    this.#isMuch ||= groups.length > 1 || fetching.length > small.length;
    if (!this.#isLasting && !this.isLittle) throw new NeedsTransaction();
    const found: (readonly DriverRow[])[] = [];
    for (const group of groups) found.push(...(await selectTogether(this.#connection, group)));
    if (this.#isVersioned) this.#version = versionFrom(found.pop() ?? []);
    for (const [index, { store }] of small.entries()) await store(found[others.length + index] ?? []);
    for (const { select, store, isWhole } of fetching) {
      if (isWhole) await store((await selectTogether(this.#connection, [select]))[0] ?? []);
    }
    return found.slice(0, others.length);
  }

  /** Records by their addresses, many of a table at once. */
  *#findings(reads: readonly Read[]): Iterable<Fetching> {
    const byTable = new Map<string, Set<string>>();
    for (const read of reads) {
      if (read.kind !== "find") continue;
      const keys = byTable.get(read.table) ?? new Set<string>();
      byTable.set(read.table, keys.add(read.key));
    }
    for (const [name, all] of byTable) {
      const table = this.#table(name);
      const keys = [...all];
      for (let from = 0; from < keys.length; from += foundAtOnce) {
        const wanted = keys.slice(from, from + foundAtOnce);
        const condition = hasAddress(this.#connection, table, wanted);
        const store = (rows: readonly Row[]) => {
          // A key such as "01" is not an address of the record 1.
          const byAddress = new Map(rows.map((row) => [recordAddress(table, row), row]));
          for (const key of wanted) {
            const row = byAddress.get(key);
            this.#hold({ kind: "find", table: name, key }, row === undefined ? none : [row]);
          }
        };
        if (condition === undefined) store(none);
        else yield { ...this.#fetching(table, condition, store), isWhole: wanted.length > fewKeys };
      }
    }
  }

  /** Records that refer to another, or all of a table. */
  #listing(read: Read): Fetching | undefined {
    if (read.kind === "find") return undefined;
    const table = this.#table(read.table);
    const store = (rows: readonly Row[]) => {
      for (const row of rows) this.add(table, row);
      this.#hold(read, rows);
    };
    switch (read.kind) {
      case "referring": {
        if (table === this.#schema.kept?.protections && read.field === "table") return this.#protections(table, read);
        const field = table.byName.get(read.field) ?? (table.address.name === read.field ? table.address : undefined);
        const condition = field && holds(this.#connection, field, read.key);
        if (condition !== undefined) return this.#fetching(table, condition, store);
        store(none);
        return undefined;
      }
      case "all":
        // Too many to stand beside others, and to be read again; in the order of their keys, so that it is the same each time.
        return { ...this.#fetching(table, undefined, store, byKey(table)), isWhole: true };
      default:
        return read satisfies never;
    }
  }

  #fetching(
    table: Table,
    condition: Parameters<typeof recordsSelect>[2],
    store: (rows: readonly Row[]) => void,
    order?: SelectOrder,
  ): Fetching {
    return {
      select: { ...recordsSelect(this.#connection, table, condition), ...(order && { order }) },
      store: (rows) => store(rows.map((row) => decodeRow(this.#connection, table, row))),
    };
  }

  /** What is protected in a table is read only where it has changed. */
  #protections(table: Table, read: Extract<Read, { kind: "referring" }>): Fetching | undefined {
    const condition = protectionsOf(this.#connection, table, read.key);
    if (condition === undefined) {
      this.#hold(read, none);
      return undefined;
    }
    return {
      select: this.#kept.markSelect(this.#connection, table, condition),
      store: async ([mark]) => {
        const known = this.#kept.known(read.key, mark);
        if (known === undefined && !this.#isLasting) throw new NeedsTransaction();
        this.#hold(read, known ?? (await this.#kept.of(this.#connection, table, read.key)));
      },
    };
  }

  #table(name: string): Table {
    const table = findTable(this.#schema, name);
    if (table === undefined) throw portierError("unknown-table", { name, candidates: this.#schema.tables.keys() });
    return table;
  }
}

function byKey({ key }: Table): SelectOrder {
  const terms: SelectOrder["terms"] = (named) =>
    join(
      key.map(({ column }) => named(column)),
      ", ",
    );
  return { terms, cut: raw("") };
}

/** A select, and what is done with its rows. */
interface Fetching {
  readonly select: Select;
  readonly store: (rows: readonly DriverRow[]) => void | Promise<void>;
  /** Whether it is run by itself. */
  readonly isWhole?: boolean;
}

const none: readonly Row[] = Object.freeze([]);

function idOf(read: Read): string {
  return JSON.stringify(
    read.kind === "find"
      ? [read.table, read.key]
      : read.kind === "all"
        ? [read.table]
        : [read.table, read.field, read.key],
  );
}
