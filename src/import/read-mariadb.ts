import type { Connection, DriverRow } from "../database/connection.js";
import {
  assemble,
  checkedChoices,
  type FoundColumn,
  type FoundDatabase,
  type FoundType,
  literalDefault,
  precisionOf,
  type TableName,
  unreadView,
} from "./found.js";

const scalars: Readonly<Record<string, FoundType>> = {
  char: "text",
  varchar: "text",
  tinytext: "text",
  text: "text",
  mediumtext: "text",
  longtext: "text",
  uuid: "text",
  tinyint: "integer",
  smallint: "integer",
  mediumint: "integer",
  int: "integer",
  bigint: "integer",
  year: "integer",
  decimal: "decimal",
  date: "date",
  datetime: "timestamp",
  timestamp: "timestamp",
  json: "json",
};

const remarks: Readonly<Record<string, string>> = {
  datetime: "is read as an instant in UTC",
  float: "is not exact; make it decimal",
  double: "is not exact; make it decimal",
};

/** What the database holds that the connection is in. */
export async function readMariadb(connection: Connection): Promise<FoundDatabase> {
  const columns = await connection.query(
    `select c.table_name as t, c.column_name as name, c.data_type as type, c.column_type as declared,
        c.is_nullable = 'YES' as optional, c.column_default as literal, c.extra, c.is_generated <> 'NEVER' as computed,
        c.collation_name as collation
      from information_schema.columns c join information_schema.tables b using (table_schema, table_name)
      where c.table_schema = database() and b.table_type = 'BASE TABLE' order by c.table_name, c.ordinal_position`,
    [],
  );
  const checks = await connection.query(
    `select table_name as t, constraint_name as name, check_clause as clause
      from information_schema.check_constraints where constraint_schema = database()`,
    [],
  );
  const keys = await connection.query(
    `select s.table_name as t, s.index_name as name, json_arrayagg(s.column_name order by s.seq_in_index) as columns
      from information_schema.statistics s where s.table_schema = database() and s.non_unique = 0
      group by s.table_name, s.index_name order by s.table_name, s.index_name`,
    [],
  );
  const references = await connection.query(
    `select table_name as t, constraint_name as name, referenced_table_name as target,
        json_arrayagg(column_name order by ordinal_position) as columns,
        json_arrayagg(referenced_column_name order by ordinal_position) as target_columns
      from information_schema.key_column_usage
      where table_schema = database() and referenced_table_name is not null
      group by table_name, constraint_name, referenced_table_name order by table_name, constraint_name`,
    [],
  );
  const checksOf = (table: unknown) => checks.filter(({ t }) => t === table).map(({ clause }) => String(clause));
  const tables = assemble({
    columns: columns.map((row) => ({ table: nameOf(row), column: mariadbColumn(row, checksOf(row["t"])) })),
    keys: keys.map((row) => ({
      table: nameOf(row),
      columns: list(row["columns"]),
      isPrimary: row["name"] === "PRIMARY",
    })),
    references: references.map((row) => ({
      table: nameOf(row),
      reference: {
        columns: list(row["columns"]),
        schema: undefined,
        table: String(row["target"]),
        target: list(row["target_columns"]),
      },
    })),
  });
  const views = await connection.query(
    "select table_name as t from information_schema.views where table_schema = database() order by table_name",
    [],
  );
  const grants = await connection.query(
    `select grantee, privileges, count(*) as n, min(table_name) as t
      from (select grantee, table_name, lower(group_concat(privilege_type order by privilege_type separator ', ')) as privileges
        from information_schema.table_privileges where table_schema = database() group by grantee, table_name) g
      group by grantee, privileges order by grantee, privileges`,
    [],
  );
  const besides = [
    ...views.map(({ t }) => `view "${String(t)}": ${unreadView}`),
    ...grants.map(({ grantee, privileges, n, t }) => {
      const where = Number(n) === 1 ? `"${String(t)}"` : `${Number(n)} tables`;
      const whom = `${String(privileges)} on ${where} to ${String(grantee)}`;
      return `grant of ${whom}; who connects as that role passes by the rules`;
    }),
  ];
  return { tables, besides: besides.map((sentence) => ({ schema: undefined, sentence })) };
}

function nameOf({ t }: DriverRow): TableName {
  return { schema: undefined, name: String(t) };
}

/** A driver may have taken the JSON apart already. */
function list(cell: unknown): string[] {
  return Array.isArray(cell) ? cell.map(String) : (JSON.parse(String(cell)) as string[]);
}

/** A column as the catalogue describes it, or a dump in the same words; `checks`: those of its table. */
export function mariadbColumn(row: DriverRow, checks: readonly string[]): FoundColumn {
  const name = String(row["name"]);
  const declared = String(row["declared"]);
  const extra = String(row["extra"]);
  const type = typeOf(row, declared, name, checks);
  const computed = Number(row["computed"]) === 1;
  const text = row["literal"] === "NULL" ? null : (row["literal"] as string | null);
  const literal = computed ? undefined : literalDefault(text, type);
  const collation = String(row["collation"]);
  const folds = type === "text" && !/_bin$|^null$/.test(collation);
  return {
    name,
    declared,
    type,
    remark:
      remarks[String(row["type"])] ??
      (type === "decimal" ? precisionOf(declared) : undefined) ??
      (folds ? `has the collation ${collation}, whose indexes do not serve rules` : undefined),
    optional: Number(row["optional"]) === 1,
    computed,
    generated: !computed && (extra.includes("auto_increment") || (text !== null && literal === undefined)),
    default: literal,
  };
}

function typeOf(row: DriverRow, declared: string, name: string, checks: readonly string[]): FoundType | undefined {
  const base = String(row["type"]);
  if (base === "enum")
    return { choice: [...declared.matchAll(/'((?:[^']|'')*)'/g)].map(([, value = ""]) => value.replaceAll("''", "'")) };
  if (declared === "tinyint(1)") return "boolean";
  if (checks.some((check) => check.includes("json_valid") && check.includes(`\`${name}\``))) return "json";
  const type = scalars[base];
  const choices = checks.map((check) => checkedChoices(check, name)).find((one) => one !== undefined);
  return type === "text" && choices !== undefined ? { choice: choices } : type;
}
