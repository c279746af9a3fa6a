import type { Row, Source } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { portierError } from "../schema/problems.js";
import { findTable, type Schema, type Table } from "../schema/schema.js";
import type { Connection } from "./connection.js";
import { KeptLists } from "./kept-lists.js";
import { hasAddress, holds, selectRecords } from "./statements.js";

/** Something that was asked for and has not been fetched. */
type Miss =
  | { readonly kind: "find"; readonly table: string; readonly key: string }
  | { readonly kind: "referring"; readonly table: string; readonly field: string; readonly key: string }
  | { readonly kind: "all"; readonly table: string };

/** How many times an answer may turn out to need more records; a manager line takes one for each step. */
const passLimit = 1_000;
/** How many records are asked for by their addresses in one statement: SQLite takes no more than 1,000 terms. */
export const foundAtOnce = 200;

/**
 * Records of a database for questions that are answered in memory. Deciding is synchronous and cannot wait: what it asks
 * for is noted, fetched, and the question asked again, until nothing is missing. Only that last answer counts.
 */
export class Records implements Source {
  readonly #connection: Connection;
  readonly #schema: Schema;
  readonly #kept: KeptLists;
  readonly #found = new Map<string, Row | undefined>();
  readonly #lists = new Map<string, readonly Row[]>();
  readonly #misses = new Map<string, Miss>();
  #hidden: { readonly table: string; readonly key: string } | undefined;
  #isOpen = false;

  /** `kept`: what is protected, as it was read before. */
  constructor(connection: Connection, schema: Schema, kept = new KeptLists()) {
    this.#kept = kept;
    this.#connection = connection;
    this.#schema = schema;
  }

  find(table: string, key: string): Row | undefined {
    if (this.#hidden?.table === table && this.#hidden.key === key) return undefined;
    const id = JSON.stringify([table, key]);
    if (!this.#found.has(id)) this.#miss(id, { kind: "find", table, key });
    return this.#found.get(id);
  }

  referring(table: string, field: string, key: string): readonly Row[] {
    const id = JSON.stringify([table, field, key]);
    const known = this.#lists.get(id);
    if (known === undefined) this.#miss(id, { kind: "referring", table, field, key });
    return this.#shown(table, known);
  }

  all(table: string): readonly Row[] {
    const id = JSON.stringify([table]);
    const known = this.#lists.get(id);
    if (known === undefined) this.#miss(id, { kind: "all", table });
    return this.#shown(table, known);
  }

  /** Hides one record, as if it were not made yet; none where nothing is given. */
  hide(hidden?: { readonly table: string; readonly key: string }): void {
    this.#hidden = hidden;
  }

  #shown(name: string, rows: readonly Row[] = []): readonly Row[] {
    const table = this.#hidden?.table === name ? findTable(this.#schema, name) : undefined;
    return table === undefined ? rows : rows.filter((row) => recordAddress(table, row) !== this.#hidden?.key);
  }

  /** Something was written, in one table or in any: what is asked next of it is fetched anew. */
  forget(table?: string): void {
    for (const known of [this.#found, this.#lists]) {
      for (const id of known.keys()) {
        if (table === undefined || id.startsWith(JSON.stringify([table]).slice(0, -1))) known.delete(id);
      }
    }
  }

  /** A record as it is known from elsewhere. */
  add(table: Table, row: Row): void {
    const address = recordAddress(table, row);
    if (address !== undefined) this.#found.set(JSON.stringify([table.name, address]), row);
  }

  /** All records whose field holds one of some keys, as they are known from elsewhere. */
  addReferring(table: Table, field: string, keys: Iterable<string>, rows: readonly Row[]): void {
    const lists = new Map([...keys].map((key) => [key, [] as Row[]]));
    for (const row of rows) lists.get(String(row[field]))?.push(row);
    for (const [key, list] of lists) this.#lists.set(JSON.stringify([table.name, field, key]), list);
  }

  /** Runs work that reads these records until all that it reads is there. */
  async read<T>(work: () => T): Promise<T> {
    for (let pass = 0; pass < passLimit; pass++) {
      let outcome: { readonly value: T } | { readonly error: unknown };
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
      const misses = [...this.#misses];
      this.#misses.clear();
      await this.#findAll(misses);
      for (const [id, miss] of misses) if (miss.kind !== "find") await this.#fetch(id, miss);
    }
    throw portierError("fault", { what: `a question needed more than ${passLimit} rounds of reading records` });
  }

  #miss(id: string, miss: Miss): void {
    if (!this.#isOpen) {
      const what = `a record of "${miss.table}" was needed that is not in memory`;
      throw portierError("wrong-call", { what, hint: "ask inside of ask(...), which fetches what the answer needs" });
    }
    this.#misses.set(id, miss);
  }

  /** Records by their addresses, many of a table at once. */
  async #findAll(misses: readonly (readonly [id: string, miss: Miss])[]): Promise<void> {
    const byTable = new Map<string, Map<string, string>>();
    for (const [id, miss] of misses) {
      if (miss.kind !== "find") continue;
      const keys = byTable.get(miss.table) ?? new Map<string, string>();
      byTable.set(miss.table, keys.set(miss.key, id));
    }
    for (const [name, ids] of byTable) {
      const table = this.#table(name);
      const keys = [...ids.keys()];
      for (let from = 0; from < keys.length; from += foundAtOnce) {
        const wanted = keys.slice(from, from + foundAtOnce);
        const condition = hasAddress(this.#connection, table, wanted);
        const rows = condition === undefined ? [] : await selectRecords(this.#connection, table, condition);
        // A key such as "01" is not an address of the record 1.
        const byAddress = new Map(rows.map((row) => [recordAddress(table, row), row]));
        for (const key of wanted) this.#found.set(ids.get(key) as string, byAddress.get(key));
      }
    }
  }

  #table(name: string): Table {
    const table = findTable(this.#schema, name);
    if (table === undefined) throw portierError("unknown-table", { name, candidates: this.#schema.tables.keys() });
    return table;
  }

  async #fetch(id: string, miss: Exclude<Miss, { kind: "find" }>): Promise<void> {
    const table = this.#table(miss.table);
    switch (miss.kind) {
      case "referring": {
        if (table === this.#schema.kept?.protections && miss.field === "table") {
          this.#lists.set(id, await this.#kept.of(this.#connection, table, miss.key));
          return;
        }
        const field = table.byName.get(miss.field) ?? (table.address.name === miss.field ? table.address : undefined);
        const condition = field && holds(this.#connection, field, miss.key);
        const rows = condition === undefined ? [] : await selectRecords(this.#connection, table, condition);
        for (const row of rows) this.add(table, row);
        this.#lists.set(id, rows);
        return;
      }
      case "all": {
        const rows = await selectRecords(this.#connection, table, undefined);
        for (const row of rows) this.add(table, row);
        this.#lists.set(id, rows);
        return;
      }
      default:
        return miss satisfies never;
    }
  }
}
