import { type Field, isOwn, keptTablesOf, type Schema, type Table } from "../schema/schema.js";
import type { Dialect } from "./dialect.js";
import { sourceName } from "./scope.js";

/**
 * The statements that make a document's tables in an empty database: columns, keys, and the references between them.
 * For a start, a demo or a test; a database that is there is better read (`portier import`).
 */
export function createTables(schema: Schema, dialect: Dialect): string[] {
  const { tables } = schema;
  const all = [...tables.values()];
  const kept = keptTablesOf(schema).map((table) => createTable(table, tables, dialect, true));
  const made = [...all.map((table) => createTable(table, tables, dialect)), ...kept];
  // Tables may refer to each other in a circle, so references come when all are there. SQLite looks only at use.
  const later = dialect.name === "sqlite" ? [] : all.flatMap((table) => addReferences(table, tables, dialect));
  return [...made, ...later];
}

type Tables = Schema["tables"];

/** One table with its key; `isKept` for one that this package keeps: it may be there already, and refers to nothing. */
export function createTable(table: Table, tables: Tables, dialect: Dialect, isKept = false): string {
  const quote = dialect.quoteName;
  const columns = table.fields.filter(isOwn).map((field) => {
    const isKey = table.key.includes(field) || field.type.target !== undefined || isPart(table, field);
    const numbers =
      field.generated && field.type.base === "integer" && table.key.length === 1 && table.key[0] === field;
    const required = !field.optional && !field.computed ? " not null" : "";
    const extra = numbers && dialect.numbering !== "" ? ` ${dialect.numbering}` : "";
    const choices = field.type.choices?.map(dialect.literal).join(", ");
    const check = choices === undefined ? "" : ` check (${quote(field.column)} in (${choices}))`;
    return `${quote(field.column)} ${dialect.columnType(field.type, isKey)}${required}${extra}${check}`;
  });
  const key = `primary key (${table.key.map((field) => quote(field.column)).join(", ")})`;
  const references = dialect.name === "sqlite" && !isKept ? referencesOf(table, tables, dialect) : [];
  const lines = [...columns, key, ...references].map((line) => `  ${line}`);
  return `create table ${isKept ? "if not exists " : ""}${sourceName(dialect, table)} (\n${lines.join(",\n")}\n)`;
}

function addReferences(table: Table, tables: Tables, dialect: Dialect): string[] {
  const references = referencesOf(table, tables, dialect);
  return references.map((reference) => `alter table ${sourceName(dialect, table)} add ${reference}`);
}

function referencesOf(table: Table, tables: Tables, dialect: Dialect): string[] {
  const quoted = (fields: readonly Field[]) => fields.map((field) => dialect.quoteName(field.column)).join(", ");
  return table.fields.flatMap((field) => {
    const target = field.type.target === undefined ? undefined : tables.get(field.type.target);
    if (target === undefined || field.lookup !== undefined) return [];
    const from = quoted(field.by ?? [field]);
    return [`foreign key (${from}) references ${sourceName(dialect, target)} (${quoted(target.key)})`];
  });
}

/** Whether a field is one of those that make a reference. */
function isPart({ fields }: Table, field: Field): boolean {
  return fields.some(({ by }) => by?.includes(field));
}
