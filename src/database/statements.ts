import type { Row } from "../conditions/source.js";
import { splitAddress } from "../schema/address.js";
import { isStorable, type Scalar } from "../schema/scalar.js";
import { type Field, isOwn, type Table } from "../schema/schema.js";
import { allOf, anyOf, type Fragment, join, param, raw, sql } from "../sql/fragment.js";
import { sourceName } from "../sql/scope.js";
import { constantPart } from "../sql/value.js";
import type { Connection, DriverRow } from "./connection.js";
import { run } from "./run.js";
import type { Select } from "./together.js";

/** The fields that a table's records hold themselves: each has a column. */
function storedFields({ fields }: Table): readonly Field[] {
  return fields.filter(isOwn);
}

export interface SelectOptions {
  /** Nobody else changes the records until the transaction ends. (SQLite locks as a whole.) */
  readonly forUpdate?: boolean;
  /** At most so many, in the order of their keys; 0 for all. */
  readonly limit?: number;
}

/** A select of some records, all of them where no condition is given; {@link decodeRow} reads what it gives. */
export function recordsSelect({ dialect }: Connection, table: Table, condition: Fragment | undefined): Select {
  const columns = storedFields(table).map(({ column }) => column);
  const names = raw(columns.map(dialect.quoteName).join(", "));
  const filter = condition === undefined ? raw("") : sql` where ${condition}`;
  return { text: sql`select ${names} from ${raw(sourceName(dialect, table))}${filter}`, columns };
}

export async function selectRecords(
  connection: Connection,
  table: Table,
  condition: Fragment | undefined,
  { forUpdate = false, limit }: SelectOptions = {},
): Promise<Row[]> {
  const { dialect } = connection;
  const name = (field: Field) => raw(dialect.quoteName(field.column));
  const order = limit === undefined ? raw("") : sql` order by ${join(table.key.map(name), ", ")}`;
  const many = raw(limit === undefined || limit === 0 ? "" : ` limit ${limit}`);
  const lock = raw(forUpdate && dialect.name !== "sqlite" ? " for update" : "");
  const { text } = recordsSelect(connection, table, condition);
  const rows = await run(connection, sql`${text}${order}${many}${lock}`);
  return rows.map((row) => decodeRow(connection, table, row));
}

export async function insertRecord(connection: Connection, table: Table, record: Row): Promise<Row> {
  const { dialect } = connection;
  // What the database makes by itself is left to it.
  const fields = storedFields(table).filter((field) => {
    const isEmpty = record[field.name] === null || record[field.name] === undefined;
    return !field.computed && !(field.generated && isEmpty);
  });
  const columns = fields.map((field) => raw(dialect.quoteName(field.column)));
  const values = fields.map((field) => param(encoded(connection, field, record[field.name])));
  const returned = storedFields(table).map((field) => raw(dialect.quoteName(field.column)));
  const [row = {}] = await run(
    connection,
    sql`insert into ${source(connection, table)} (${join(columns, ", ")}) values (${join(values, ", ")}) returning ${join(returned, ", ")}`,
  );
  return decodeRow(connection, table, row);
}

/** How many records one statement writes: databases take some thousand values at once. */
const writtenAtOnce = 200;

/** Many records of a table in which the database makes no values by itself. */
export async function insertRecords(connection: Connection, table: Table, records: readonly Row[]): Promise<void> {
  const fields = storedFields(table);
  const columns = join(
    fields.map((field) => raw(connection.dialect.quoteName(field.column))),
    ", ",
  );
  for (let from = 0; from < records.length; from += writtenAtOnce) {
    const lines = records.slice(from, from + writtenAtOnce).map(
      (record) =>
        sql`(${join(
          fields.map((field) => param(encoded(connection, field, record[field.name]))),
          ", ",
        )})`,
    );
    await run(connection, sql`insert into ${source(connection, table)} (${columns}) values ${join(lines, ", ")}`);
  }
}

export async function deleteRecords(connection: Connection, table: Table, records: readonly Row[]): Promise<void> {
  for (let from = 0; from < records.length; from += writtenAtOnce) {
    const any = anyOf(records.slice(from, from + writtenAtOnce).map((record) => keyOf(connection, table, record)));
    await run(connection, sql`delete from ${source(connection, table)} where ${any}`);
  }
}

/** Sets what changes in the record that was read as `before`. */
export async function updateRecord(connection: Connection, table: Table, before: Row, changes: Row): Promise<void> {
  const { dialect } = connection;
  const sets = storedFields(table)
    .filter(({ name }) => Object.hasOwn(changes, name))
    .map(
      (field) =>
        sql`${raw(dialect.quoteName(field.column))} = ${param(encoded(connection, field, changes[field.name]))}`,
    );
  if (sets.length === 0) return;
  await run(
    connection,
    sql`update ${source(connection, table)} set ${join(sets, ", ")} where ${keyOf(connection, table, before)}`,
  );
}

export async function deleteRecord(connection: Connection, table: Table, before: Row): Promise<void> {
  await run(connection, sql`delete from ${source(connection, table)} where ${keyOf(connection, table, before)}`);
}

/** Whether a record is one of those that these addresses name; undefined where none of them can be. */
export function hasAddress(connection: Connection, table: Table, addresses: readonly string[]): Fragment | undefined {
  const terms = addresses
    .map((address) => valuesOf(table.key, address))
    .filter((values) => values !== undefined)
    .map((values) => equals(connection, table.key, values));
  return terms.length === 0 ? undefined : anyOf(terms);
}

/**
 * Whether a field, or a composite reference, holds a key; undefined where it never can. A value that cannot be read
 * could be any key.
 */
export function holds(connection: Connection, field: Field, key: string): Fragment | undefined {
  const { dialect } = connection;
  if (field.by !== undefined) {
    const values = valuesOf(field.by, key);
    return values && equals(connection, field.by, values);
  }
  const column = raw(dialect.quoteName(field.column));
  const type = field.type.element ?? field.type;
  const [value] = splitAddress([type], key) ?? [];
  if (value === undefined || !isStorable(value)) return undefined;
  const constant = dialect.constant(type, value);
  const held =
    field.type.element === undefined
      ? dialect.compare("=", type, dialect.stored(type, column), constant)
      : dialect.contains(field.type, column, constant);
  const fits = dialect.fits(field.type, column);
  return fits === undefined ? held : sql`(${held} or (${column} is not null and not ${fits}))`;
}

/** The values that an address names in some fields; undefined for what no record of a database can hold. */
function valuesOf(fields: readonly Field[], address: string): readonly Scalar[] | undefined {
  const values = splitAddress(
    fields.map(({ type }) => type),
    address,
  );
  return values?.every(isStorable) ? values : undefined;
}

function keyOf(connection: Connection, table: Table, record: Row): Fragment {
  return equals(
    connection,
    table.key,
    table.key.map(({ name, type }) => type.canonical(record[name])),
  );
}

function equals({ dialect }: Connection, fields: readonly Field[], values: readonly (Scalar | undefined)[]): Fragment {
  return allOf(
    fields.map(({ type, column }, index) => {
      const stored = dialect.stored(type, raw(dialect.quoteName(column)));
      return dialect.compare("=", type, stored, constantPart(type, values[index] as Scalar, dialect).sql);
    }),
  );
}

function source({ dialect }: Connection, table: Table): Fragment {
  return raw(sourceName(dialect, table));
}

function encoded({ dialect }: Connection, { type }: Field, value: unknown): unknown {
  return value === null || value === undefined ? null : dialect.encode(type, value);
}

/** A record as a driver gave it. */
export function decodeRow({ dialect }: Connection, table: Table, row: DriverRow): Row {
  return Object.fromEntries(
    storedFields(table).map(({ name, type, column }) => [name, dialect.decode(type, row[column])]),
  );
}
