import { fieldValue, readPath } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, type FieldPath, findTable, pathOf, type Schema, type Table } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { storedValue } from "../schema/types/stored-form.js";

/**
 * A {@link Source} over records in memory. Records are found by an index on their keys; who refers to a key, by one that
 * is made for a field when it is first asked about.
 *
 * @throws PortierError for a table that the document does not know, and for a record without a key.
 */
export function memorySource(schema: Schema, data: Readonly<Record<string, readonly object[]>>): Source {
  const rows = new Map<string, readonly Row[]>();
  const byKey = new Map<string, Map<string, Row>>();
  const byField = new Map<Field, Referring>();
  for (const name of Object.keys(data)) {
    const table = findTable(schema, name);
    if (table === undefined) throw portierError("unknown-table", { name, candidates: schema.tables.keys() });
    const given = (data[name] ?? []) as readonly Row[];
    const own = table === schema.kept?.protections ? lasting(given) : given;
    rows.set(name, own);
    byKey.set(name, indexKeys(table, own));
  }
  const byPath = new Map<string, Referring>();
  const find = (table: string, key: string) => byKey.get(table)?.get(key);
  const all = (table: string) => rows.get(table) ?? [];
  return {
    find,
    all,
    holding: (table, names, value) => {
      const id = JSON.stringify([table, ...names]);
      const index = byPath.get(id) ?? indexPath(findPath(schema, table, names), all(table), find);
      byPath.set(id, index);
      return holders(index, value);
    },
    referring: (table, fieldName, key) => {
      const isProtections = table === schema.kept?.protections?.name;
      // Not given, and so not known: an empty list says that nothing is protected.
      if (isProtections && !rows.has(table)) throw portierError("needs-source", { what: `finding what is protected` });
      const field = findTable(schema, table)?.byName.get(fieldName);
      if (field === undefined) return [];
      let index = byField.get(field);
      if (index === undefined) {
        index = indexField(field, rows.get(table) ?? []);
        byField.set(field, index);
      }
      const found = holders(index, key);
      // What never changes needs not be read twice.
      return isProtections && fieldName === "table" ? Object.freeze(found) : found;
    },
  };
}

/** Copies that stay as they are: what is protected is made ready once for all who ask. */
function lasting(rows: readonly Row[]): readonly Row[] {
  return rows.map((row) => (Object.isFrozen(row) ? row : Object.freeze({ ...row })));
}

function indexKeys(table: Table, rows: readonly Row[]): Map<string, Row> {
  const index = new Map<string, Row>();
  for (const [position, row] of rows.entries()) {
    const address = recordAddress(table, row);
    if (address === undefined) {
      const field = table.key.map(({ name }) => name).join(", ");
      throw portierError("missing-record-key", { table: table.name, field }, [table.name, position]);
    }
    index.set(address, row);
  }
  return index;
}

/** Records by what a field of theirs holds. Those in which it cannot be read could refer to anything. */
interface Referring {
  readonly byKey: ReadonlyMap<string, readonly Row[]>;
  readonly unreadable: readonly Row[];
}

function holders({ byKey, unreadable }: Referring, key: string): readonly Row[] {
  const found = byKey.get(key) ?? [];
  return unreadable.length === 0 ? found : [...found, ...unreadable];
}

function findPath(schema: Schema, table: string, names: readonly string[]): FieldPath {
  const path: Field[] = [];
  for (const name of names) {
    const target: string = path.at(-1)?.type.target ?? table;
    const fields = findTable(schema, target)?.byName ?? new Map<string, Field>();
    const field = fields.get(name);
    if (field === undefined) throw portierError("unknown-field", { table: target, name, candidates: fields.keys() });
    path.push(field);
  }
  return pathOf(path);
}

/** Records by the values that are read from them: null for none; undefined where that cannot be told. */
function indexRows(rows: readonly Row[], read: (row: Row) => Iterable<Scalar> | null | undefined): Referring {
  const byKey = new Map<string, Row[]>();
  const unreadable: Row[] = [];
  for (const row of rows) {
    const values = read(row);
    if (values === undefined) unreadable.push(row);
    for (const value of values ?? []) {
      const list = byKey.get(String(value));
      if (list === undefined) byKey.set(String(value), [row]);
      else list.push(row);
    }
  }
  return { byKey, unreadable };
}

/** A list field holds each of its elements. */
function indexField(field: Field, rows: readonly Row[]): Referring {
  return indexRows(rows, (row) => {
    const raw = fieldValue(row, field);
    const value = raw === null ? null : storedValue(field.type, raw);
    if (value == null) return value;
    return field.type.element === undefined ? [value] : listElements(value);
  });
}

function indexPath(path: FieldPath, rows: readonly Row[], find: Source["find"]): Referring {
  const read = readPath(path);
  // What does not fit its type is reported when a condition reads the record.
  const reading = { source: { find }, badData: () => {}, fault: () => {} };
  return indexRows(rows, (row) => {
    const value = read(row, reading);
    return value == null ? value : [value];
  });
}
