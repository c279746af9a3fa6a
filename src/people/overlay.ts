import type { Row, Source } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { findTable, type Schema, type Table } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";

/** One record that a change makes, changes or takes away. */
export interface StoredWrite {
  readonly table: Table;
  readonly before: Row | undefined;
  readonly after: Row | undefined;
}

/** A source as it will be once some records are written. */
export function withWrites(source: Source, schema: Schema, writes: readonly StoredWrite[]): Source {
  const written = (name: string) => writes.filter(({ table }) => table.name === name);
  const replaced = (rows: Iterable<Row>, name: string): Row[] => {
    const own = written(name);
    const gone = new Set(own.map(({ table, before, after }) => recordAddress(table, before ?? after ?? {})));
    const table = findTable(schema, name);
    return [...rows].filter((row) => table === undefined || !gone.has(recordAddress(table, row)));
  };
  const made = (name: string) => written(name).flatMap(({ after }) => (after === undefined ? [] : [after]));
  return {
    find: (name, key) => {
      const own = written(name).find(({ table, before, after }) => recordAddress(table, before ?? after ?? {}) === key);
      return own === undefined ? source.find(name, key) : own.after;
    },
    referring: (name, field, key) => [
      ...replaced(source.referring?.(name, field, key) ?? [], name),
      ...made(name).filter((row) => holdsKey(schema, name, field, row, key)),
    ],
    ...(source.all && { all: (name) => [...replaced(source.all?.(name) ?? [], name), ...made(name)] }),
  };
}

function holdsKey(schema: Schema, table: string, name: string, row: Row, key: string): boolean {
  const field = findTable(schema, table)?.byName.get(name);
  const value = field?.type.canonical(row[name]);
  if (field === undefined || value === undefined) return false;
  return field.type.element === undefined ? String(value) === key : listElements(value).map(String).includes(key);
}
