import { fieldValue } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { findTable, type Schema, type Table } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { storedValue } from "../schema/types/stored-form.js";

/** One record that a change makes, changes or takes away. */
export interface StoredWrite {
  readonly table: Table;
  readonly before: Row | undefined;
  readonly after: Row | undefined;
}

/**
 * A source as it will be once some records are written: what is judged next sees what was accepted before. Writes are kept
 * by their addresses, so that finding a record does not grow with them.
 */
export class WrittenSource implements Source {
  readonly #source: Source;
  readonly #tableOf: (name: string) => Table | undefined;
  /** By table and address, the record as it will be; undefined for one that will be gone. */
  readonly #written = new Map<string, Map<string, Row | undefined>>();
  /** By table and field, the written records that hold a key there, until something is written again. */
  readonly #holders = new Map<string, Holders>();
  readonly all?: (table: string) => Iterable<Row>;
  readonly referring?: (table: string, field: string, key: string) => Iterable<Row>;

  constructor(source: Source, tableOf: (name: string) => Table | undefined) {
    this.#source = source;
    this.#tableOf = tableOf;
    const { all, referring } = source;
    if (all !== undefined) this.all = (table) => [...this.#left(all.call(source, table), table), ...this.#made(table)];
    if (referring === undefined) return;
    this.referring = (table, field, key) => [
      ...this.#left(referring.call(source, table, field, key), table),
      ...this.#madeHolding(table, field, key),
    ];
  }

  write({ table, before, after }: StoredWrite): void {
    const own = this.#written.get(table.name) ?? new Map<string, Row | undefined>();
    this.#written.set(table.name, own);
    this.#holders.clear();
    const [was, is] = [before, after].map((row) => row && recordAddress(table, row));
    if (was !== undefined) own.set(was, undefined);
    if (is !== undefined) own.set(is, after);
  }

  find(table: string, key: string): Row | undefined {
    const own = this.#written.get(table);
    return own?.has(key) ? own.get(key) : this.#source.find(table, key);
  }

  /** The records that were there before, and were not written. */
  #left(rows: Iterable<Row>, name: string): Row[] {
    const own = this.#written.get(name);
    const table = this.#tableOf(name);
    if (own === undefined || table === undefined) return [...rows];
    return [...rows].filter((row) => {
      const address = recordAddress(table, row);
      return address === undefined || !own.has(address);
    });
  }

  #made(table: string): Row[] {
    return [...(this.#written.get(table)?.values() ?? [])].filter((row) => row !== undefined);
  }

  /** The written records whose field holds a key; what cannot be read could hold any. */
  #madeHolding(table: string, name: string, key: string): readonly Row[] {
    const id = JSON.stringify([table, name]);
    const holders = this.#holders.get(id) ?? this.#holdersOf(table, name);
    this.#holders.set(id, holders);
    return [...(holders.byKey.get(key) ?? []), ...holders.unreadable];
  }

  #holdersOf(table: string, name: string): Holders {
    const holders: Holders = { byKey: new Map(), unreadable: [] };
    const found = this.#tableOf(table);
    const field = found?.byName.get(name) ?? (found?.address.name === name ? found.address : undefined);
    if (found === undefined || field === undefined) return holders;
    for (const row of this.#made(table)) {
      const raw = fieldValue(row, field);
      if (raw === null) continue;
      const value = storedValue(field.type, raw);
      if (value === undefined) {
        holders.unreadable.push(row);
        continue;
      }
      const keys = field.type.element === undefined ? [value] : listElements(value);
      for (const key of new Set(keys.map(String))) push(holders.byKey, key, row);
    }
    return holders;
  }
}

interface Holders {
  readonly byKey: Map<string, Row[]>;
  readonly unreadable: Row[];
}

function push(lists: Map<string, Row[]>, key: string, row: Row): void {
  const list = lists.get(key);
  if (list === undefined) lists.set(key, [row]);
  else list.push(row);
}

/** A source as it will be once these records are written. */
export function withWrites(source: Source, schema: Schema, writes: readonly StoredWrite[]): Source {
  const written = new WrittenSource(source, (name) => findTable(schema, name));
  for (const write of writes) written.write(write);
  return written;
}
