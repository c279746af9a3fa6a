import { type Column, getTableColumns, getTableName, is, type SQL, Subquery, sql, Table } from "drizzle-orm";
import { SelectionProxyHandler } from "drizzle-orm/selection-proxy";
import { declareFound, tableInput } from "../import/declare-found.js";
import type { FoundColumn, FoundTable, FoundType } from "../import/found.js";
import type { ShowAction } from "../rules/action-tree.js";
import type { TableInput } from "../schema/document.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { internals } from "../session/internals.js";
import type { AnySession } from "../session/open-session.js";
import type { Session } from "../session/session.js";
import type { ActionOf } from "../session/session-types.js";
import type { Dialect } from "../sql/dialect.js";
import { type Fragment, plainPieces } from "../sql/fragment.js";
import { maskedColumns as columnsOf } from "../sql/masked-select.js";
import { whereFragment } from "../sql/where.js";

export { type DrizzleTransaction, drizzleTransaction } from "./drizzle-transaction.js";
export type { JoinOptions } from "./transaction.js";

/**
 * A table as it stands in a statement: itself, an alias of it, or the columns that a relational query hands to its `where`.
 */
export type TableAs = Table | Readonly<Record<string, Column>>;

/**
 * The records with which a person may do something, as a condition for Drizzle's `where`. It is made for the table, or
 * alias of it, beside which it stands: in a nested relation of a table to itself it would otherwise be about the outer row.
 *
 * A `$with` that is called as a table which the rules ask about would be asked in its place: call it otherwise.
 *
 * @throws PortierError where `table` is not the document's table of that name.
 *
 * @example
 * await db.select().from(objects).where(and(eq(objects.status, "on_display"), whereSql(session, "objects", "edit", objects, postgres)));
 * await db.query.objects.findMany({ with: { parts: { where: (part) => whereSql(session, "objects", "list", part, postgres) } } });
 */
export function whereSql<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  name: K,
  action: ActionOf<T, K>,
  table: TableAs,
  dialect: Dialect,
): SQL<boolean> {
  const as = nameIn(session, name, table);
  return sqlOf(whereFragment(session, name, action, dialect, as)) as SQL<boolean>;
}

/** What a table is called in the statement, once it is seen to be the document's. */
function nameIn(session: AnySession, name: string, given: TableAs): string {
  const [column] = is(given, Table) ? [] : Object.values(given);
  const table = is(given, Table) ? given : column?.table;
  const { source } = internals(session).plan.of(name).table;
  if (table === undefined || !is(table, Table)) {
    throw portierError("wrong-call", { what: `no Drizzle table was passed for "${name}"`, hint: "pass the table" });
  }
  const { name: original, schema } = originOf(table);
  const isSame = source === original || source === `${schema}.${original}`;
  if (isSame) return getTableName(table);
  const what = `"${name}" is kept in "${source}", and this is the table "${original}"`;
  throw portierError("wrong-call", { what, hint: "pass the table that the condition is about" });
}

/** What a table is called in the database, whatever alias it has. */
function originOf(table: Table): { readonly name: string; readonly schema: string | undefined } {
  const kept = table as unknown as Readonly<Record<symbol, string | undefined>>;
  const { OriginalName, Schema } = (Table as unknown as { Symbol: Record<"OriginalName" | "Schema", symbol> }).Symbol;
  return { name: kept[OriginalName] ?? getTableName(table), schema: kept[Schema] };
}

/** A table's columns as a person sees them: the value, or null where it is hidden. */
export type MaskedColumns<T extends Table> = {
  [K in keyof T["_"]["columns"]]: SQL.Aliased<T["_"]["columns"][K]["_"]["data"] | null>;
};

/**
 * What one person sees of the columns of a Drizzle table, or an alias of it. Make a subquery of them, and filter and sort
 * outside it, so that nothing hidden can be learnt by that. A column that the document does not declare is hidden.
 *
 * A database may try a filter from outside before the condition inside; one that can fail on some value (a cast,
 * arithmetic) then tells of hidden records by its failure. A subquery that ends in {@link fenced} is worked out by itself.
 *
 * @example
 * const seen = db
 *   .select(maskedColumns(session, "objects", objects, postgres))
 *   .from(objects)
 *   .where(whereSql(session, "objects", "list", objects, postgres))
 *   .limit(fenced)
 *   .as("seen");
 * await db.select().from(seen).orderBy(seen.insuredValue).limit(50);
 */
export function maskedColumns<D extends DocumentTypes, T extends Table>(
  session: Session<D>,
  name: TableOf<D>,
  table: T,
  dialect: Dialect,
  action: ShowAction = "list",
): MaskedColumns<T> {
  const as = nameIn(session, name, table);
  const fragments = new Map(
    columnsOf(internals(session), name, action, dialect, as).map(({ field, value }) => [field.column, value]),
  );
  const columns = Object.entries(getTableColumns(table)).map(([key, column]) => {
    const fragment = fragments.get(column.name);
    const value = fragment === undefined ? sql`null` : sqlOf(fragment);
    return [key, value.mapWith(column).as(column.name)];
  });
  return Object.fromEntries(columns) as MaskedColumns<T>;
}

/** A table as a person sees it, to select from and join as any other; hidden values are null, whatever the columns say. */
export type SeenTable<T extends Table, A extends string> = Subquery<A, T["_"]["columns"]> & T["_"]["columns"];

/**
 * What one person sees of a table, under a name of its own: hidden records are not there, hidden values null. Filters, sorts and
 * joins around it are those of a table that holds nothing else, also where it stands in a statement twice, and none of
 * them can fail on what is hidden. Indexes serve no filter from around it; where that matters, see {@link maskedColumns}.
 *
 * @param alias What it is called in the statement, unlike any other there.
 * @throws PortierError where `table` is not the document's table of that name.
 *
 * @example
 * const [worker, boss] = ["worker", "boss"].map((alias) => seenTable(session, "staff", staff, postgres, alias));
 * await db.select({ name: worker.name, boss: boss.name }).from(worker).leftJoin(boss, eq(boss.id, worker.manager));
 */
export function seenTable<D extends DocumentTypes, T extends Table, A extends string>(
  session: Session<D>,
  name: TableOf<D>,
  table: T,
  dialect: Dialect,
  alias: A,
  action: ShowAction = "list",
): SeenTable<T, A> {
  const shown = Object.values(maskedColumns(session, name, table, dialect, action));
  const columns = sql.join(
    shown.map((column) => sql`${(column as SQL.Aliased).sql} as ${sql.identifier((column as SQL.Aliased).fieldAlias)}`),
    sql`, `,
  );
  const where = whereSql(session, name, action, table, dialect);
  const select = sql`select ${columns} from ${table} where ${where} ${sql.raw(dialect.fence)}`;
  const seen = new Subquery(select, getTableColumns(table) as Record<string, unknown>, alias);
  const handler = new SelectionProxyHandler({ alias, sqlAliasedBehavior: "alias", sqlBehavior: "error" });
  return new Proxy(seen, handler as ProxyHandler<typeof seen>) as unknown as SeenTable<T, A>;
}

/** More records than there are: a subquery with this limit lets no filter from outside in. Indexes then serve none. */
export const fenced = Number.MAX_SAFE_INTEGER;

function sqlOf(fragment: Fragment): SQL {
  const chunks = plainPieces(fragment).map((piece) =>
    typeof piece === "string" ? sql.raw(piece) : sql`${sql.param(piece.param)}`,
  );
  return sql.join(chunks);
}

/** What Drizzle's `getTableConfig` (of `drizzle-orm/pg-core`, `mysql-core` or `sqlite-core`) says of a table. */
export interface TableConfig {
  readonly name: string;
  readonly schema?: string | undefined;
  readonly columns: readonly (Column & { getSQLType(): string })[];
  readonly primaryKeys: readonly { readonly columns: readonly { readonly name: string }[] }[];
  readonly foreignKeys: readonly {
    reference(): {
      readonly columns: readonly { readonly name: string }[];
      readonly foreignTable: Table;
      readonly foreignColumns: readonly { readonly name: string }[];
    };
  }[];
}

/**
 * Drizzle tables as the tables of a document, by their names in the database, without rules: add those.
 *
 * @param getTableConfig Drizzle's own, of the dialect that the tables are written in.
 * @throws PortierError for tables and columns that a document has no words for, each with the reason; name those columns
 * (`objects.weight`) or tables in `without` to leave them out: then no rule can speak of them.
 *
 * @example
 * import { getTableConfig } from "drizzle-orm/pg-core";
 * const tables = drizzleTables([staff, objects], getTableConfig);
 * const portier = compile({ portier: 1, tables: { ...tables, objects: { ...tables.objects, rules } } });
 */
export function drizzleTables<T extends Table>(
  tables: readonly T[],
  getTableConfig: (table: T) => TableConfig,
  { without = [] }: { readonly without?: readonly string[] } = {},
): Record<string, TableInput> {
  const found = tables
    .map((table) => foundTable(getTableConfig(table), (other) => getTableConfig(other as T)))
    .filter(({ name }) => !without.includes(name))
    .map((table) => ({
      ...table,
      columns: table.columns.filter((column) => !without.includes(`${table.name}.${column.name}`)),
    }));
  const { tables: declared, leftOut: all } = declareFound(found);
  // A reference that is none here leaves its column as it is.
  const leftOut = all.filter(({ kind }) => kind !== "foreign key").map(({ sentence }) => sentence);
  const [first] = leftOut;
  if (first !== undefined) {
    const hint = `name it in { without: [...] }${leftOut.length > 1 ? `; and ${leftOut.slice(1).join("; ")}` : ""}`;
    throw portierError("wrong-call", { what: `a document has no words for ${first}`, hint });
  }
  return Object.fromEntries(declared.map((table) => [table.name, tableInput(table)]));
}

function foundTable(config: TableConfig, configOf: (table: Table) => TableConfig): FoundTable {
  const inline = config.columns.filter(({ primary }) => primary).map(({ name }) => name);
  const [composite] = config.primaryKeys;
  const key = composite?.columns.map(({ name }) => name) ?? inline;
  return {
    schema: config.schema,
    name: config.name,
    keys: key.length === 0 ? [] : [{ columns: key, isPrimary: true }],
    columns: config.columns.map((column) =>
      foundColumn(
        column,
        composite?.columns.some(({ name }) => name === column.name),
      ),
    ),
    references: config.foreignKeys.map((key) => {
      const { columns, foreignTable, foreignColumns } = key.reference();
      const target = configOf(foreignTable);
      return {
        columns: columns.map(({ name }) => name),
        schema: target.schema,
        table: target.name,
        target: foreignColumns.map(({ name }) => name),
      };
    }),
  };
}

function foundColumn(column: TableConfig["columns"][number], isKey = false): FoundColumn {
  const declared = column.getSQLType();
  const initial = column.default;
  const isLiteral = typeof initial === "string" || typeof initial === "number" || typeof initial === "boolean";
  return {
    name: column.name,
    declared,
    type: typeOf(column, declared),
    optional: !column.notNull && !column.primary && !isKey,
    computed: column.generated !== undefined,
    // What Drizzle fills in by itself, the database does not.
    generated: column.generated === undefined && column.hasDefault && !isLiteral && column.defaultFn === undefined,
    default: isLiteral ? initial : undefined,
  };
}

const types: Readonly<Record<string, FoundType>> = {
  text: "text",
  varchar: "text",
  char: "text",
  uuid: "text",
  smallint: "integer",
  int: "integer",
  integer: "integer",
  bigint: "integer",
  mediumint: "integer",
  serial: "integer",
  smallserial: "integer",
  bigserial: "integer",
  numeric: "decimal",
  decimal: "decimal",
  boolean: "boolean",
  date: "date",
  datetime: "timestamp",
};

function typeOf(column: Column, declared: string): FoundType | undefined {
  if (declared.endsWith("[]")) {
    const element = types[declared.slice(0, -2).replace(/\(.*$/, "").trim()];
    return typeof element === "string" && element !== "json" ? { list: element } : undefined;
  }
  if (column.enumValues !== undefined && column.enumValues.length > 0) return { choice: column.enumValues };
  if (column.dataType === "json") return "json";
  if (column.dataType === "boolean") return "boolean";
  const base = declared
    .replace(/\(.*\)/, "")
    .replace(/ unsigned$/, "")
    .trim();
  if (base === "timestamp with time zone") return "timestamp";
  // An integer that an application reads as a date is none in the database.
  return base === "integer" && column.dataType === "date" ? undefined : types[base];
}
