import type { Connection, DriverRow } from "../database/connection.js";
import {
  assemble,
  checkedChoices,
  type FoundColumn,
  type FoundDatabase,
  type FoundType,
  literalDefault,
  unreadView,
} from "./found.js";

/** By words in the declared type, in this order: SQLite takes any. */
const types: readonly (readonly [RegExp, FoundType | undefined, string?])[] = [
  [/bool/i, "boolean"],
  [/int/i, "integer"],
  [/json/i, "json"],
  [
    /datetime|timestamp/i,
    "timestamp",
    "must hold ISO 8601 with a zone, as text; say --zone UTC where there is none in it",
  ],
  [/date/i, "date", "must hold YYYY-MM-DD, as text"],
  [/char|clob|text|uuid/i, "text"],
  [/dec|num|money/i, "decimal", "must hold digits as text: SQLite makes inexact numbers of them in a numeric column"],
  [/real|floa|doub/i, undefined, "is not exact"],
];

/** What the main database holds. */
export async function readSqlite(connection: Connection): Promise<FoundDatabase> {
  const tables = await connection.query(
    "select name, sql from sqlite_schema where type = 'table' and name not like 'sqlite\\_%' escape '\\' order by name",
    [],
  );
  const columns = await over(connection, tables, "pragma_table_xinfo");
  const indexes = await connection.query(
    `select t.name as t, i.name as name, json_group_array(c.name) as columns
      from sqlite_schema t, pragma_index_list(t.name) i, pragma_index_info(i.name) c
      where t.type = 'table' and i."unique" = 1 and i.partial = 0 and i.origin <> 'pk' group by t.name, i.name`,
    [],
  );
  const references = await over(connection, tables, "pragma_foreign_key_list");
  const sqlOf = (table: unknown) => String(tables.find(({ name }) => name === table)?.["sql"]);
  const name = ({ t }: DriverRow) => ({ schema: undefined, name: String(t) });
  const primary = (table: unknown) =>
    columns
      .filter(({ t, pk }) => t === table && Number(pk) > 0)
      .sort((a, b) => Number(a["pk"]) - Number(b["pk"]))
      .map((column) => String(column["name"]));
  const links = new Map<string, DriverRow[]>();
  for (const row of references) {
    const id = JSON.stringify([row["t"], row["id"]]);
    links.set(id, [...(links.get(id) ?? []), row]);
  }
  const found = assemble({
    columns: columns.map((row) => ({ table: name(row), column: columnOf(row, sqlOf(row["t"]), primary(row["t"])) })),
    keys: [
      ...tables
        .map((row) => ({
          table: { schema: undefined, name: String(row["name"]) },
          columns: primary(row["name"]),
          isPrimary: true,
        }))
        .filter((key) => key.columns.length > 0),
      ...indexes.map((row) => ({
        table: name(row),
        columns: JSON.parse(String(row["columns"])) as string[],
        isPrimary: false,
      })),
    ],
    references: [...links.values()].map((rows) => {
      const [first = {}] = rows;
      const table = String(first["table"]);
      // A reference that names no columns leads to the primary key.
      const target = rows.map((row, index) => (row["to"] === null ? (primary(table)[index] ?? "") : String(row["to"])));
      return {
        table: name(first),
        reference: { columns: rows.map((row) => String(row["from"])), schema: undefined, table, target },
      };
    }),
  });
  const views = await connection.query("select name from sqlite_schema where type = 'view' order by name", []);
  const besides = views.map(({ name }) => ({ schema: undefined, sentence: `view "${String(name)}": ${unreadView}` }));
  return { tables: found, besides };
}

function over(connection: Connection, tables: readonly DriverRow[], pragma: string): Promise<readonly DriverRow[]> {
  if (tables.length === 0) return Promise.resolve([]);
  return connection.query(
    `select t.name as t, p.* from sqlite_schema t, ${pragma}(t.name) p where t.type = 'table' and t.name not like 'sqlite\\_%' escape '\\'`,
    [],
  );
}

function columnOf(row: DriverRow, create: string, primary: readonly string[]): FoundColumn {
  const name = String(row["name"]);
  const declared = String(row["type"]);
  const [, base, remark] = types.find(([words]) => words.test(declared)) ?? [undefined, undefined, undefined];
  const type = base === "text" ? withChoices(create, name) : base;
  const computed = Number(row["hidden"]) > 1;
  const text = row["dflt_value"] as string | null;
  const literal = computed ? undefined : literalDefault(text, type);
  // An integer that is the whole key numbers itself.
  const isNumbered = primary.length === 1 && primary[0] === name && /^integer$/i.test(declared);
  return {
    name,
    declared: declared === "" ? "no type" : declared,
    type,
    remark,
    isZoneless: type === "timestamp",
    optional: Number(row["notnull"]) === 0 && !primary.includes(name),
    computed,
    generated: !computed && (isNumbered || (text !== null && text !== "NULL" && literal === undefined)),
    default: literal,
  };
}

function withChoices(create: string, column: string): FoundType {
  for (const [, check = ""] of create.matchAll(/check\s*(\((?:[^()']|'(?:[^']|'')*'|\([^()]*\))*\))/gi)) {
    const choices = checkedChoices(check, column);
    if (choices !== undefined) return { choice: choices };
  }
  return "text";
}
