import { type Column, getTableColumns, type SQL, sql, type Table } from "drizzle-orm";
import { declareFound, tableInput } from "../import/declare-found.js";
import type { FoundColumn, FoundTable, FoundType } from "../import/found.js";
import type { TableInput } from "../schema/document.js";
import { portierError } from "../schema/problems.js";
import type { AnyTables, TableOf, TableTypes } from "../schema/table-types.js";
import type { ShowAction } from "../session/mask.js";
import { type ActionOf, partsOf, type Session } from "../session/session.js";
import type { Dialect } from "../sql/dialect.js";
import { type Fragment, plainPieces } from "../sql/fragment.js";
import { maskedColumns as columnsOf } from "../sql/masked-select.js";
import { whereFragment } from "../sql/where.js";

/**
 * The records with which a person may do something, as a condition for Drizzle's `where`.
 *
 * @example
 * await db.select().from(objects).where(and(eq(objects.status, "on_display"), whereSql(session, "objects", "edit", postgres)));
 */
export function whereSql<T extends TableTypes = AnyTables, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  table: K,
  action: ActionOf<T, K>,
  dialect: Dialect,
): SQL<boolean> {
  return sqlOf(whereFragment(session, table, action, dialect)) as SQL<boolean>;
}

/** A table's columns as a person sees them: the value, or null where it is hidden. */
export type MaskedColumns<T extends Table> = {
  [K in keyof T["_"]["columns"]]: SQL.Aliased<T["_"]["columns"][K]["_"]["data"] | null>;
};

/**
 * What one person sees of the columns of a Drizzle table. Make a subquery of them, and filter and sort outside it, so
 * that nothing hidden can be learnt by that. A column that the document does not declare is hidden.
 *
 * @example
 * const seen = db
 *   .select(maskedColumns(session, "objects", objects, postgres))
 *   .from(objects)
 *   .where(whereSql(session, "objects", "list", postgres))
 *   .as("seen");
 * await db.select().from(seen).orderBy(seen.insuredValue).limit(50);
 */
export function maskedColumns<D extends TableTypes, T extends Table>(
  session: Session<D>,
  name: TableOf<D>,
  table: T,
  dialect: Dialect,
  action: ShowAction = "list",
): MaskedColumns<T> {
  const { plan } = partsOf(session);
  const fragments = new Map(columnsOf(plan, name, action, dialect).map(({ field, value }) => [field.column, value]));
  const columns = Object.entries(getTableColumns(table)).map(([key, column]) => {
    const fragment = fragments.get(column.name);
    const value = fragment === undefined ? sql`null` : sqlOf(fragment);
    return [key, value.mapWith(column).as(column.name)];
  });
  return Object.fromEntries(columns) as MaskedColumns<T>;
}

function sqlOf(fragment: Fragment): SQL {
  const chunks = plainPieces(fragment).map((piece) =>
    typeof piece === "string" ? sql.raw(piece) : sql`${sql.param(piece.param)}`,
  );
  return sql.join(chunks);
}

/** What Drizzle's `getTableConfig` (of `drizzle-orm/pg-core`, `mysql-core` or `sqlite-core`) says of a table. */
interface TableConfig {
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
  const { tables: declared, leftOut } = declareFound(found);
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
  return {
    schema: config.schema,
    name: config.name,
    key: composite?.columns.map(({ name }) => name) ?? inline,
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
