import type { Connection, DriverRow } from "../database/connection.js";
import {
  assemble,
  checkedChoices,
  type FoundColumn,
  type FoundReference,
  type FoundTable,
  type FoundType,
  literalDefault,
  parsedList,
  type TableName,
} from "./found.js";

const scalars: Readonly<Record<string, FoundType>> = {
  text: "text",
  varchar: "text",
  bpchar: "text",
  name: "text",
  uuid: "text",
  inet: "text",
  int2: "integer",
  int4: "integer",
  int8: "integer",
  numeric: "decimal",
  bool: "boolean",
  date: "date",
  timestamptz: "timestamp",
  json: "json",
  jsonb: "json",
};

const remarks: Readonly<Record<string, string>> = {
  bpchar: "is padded with spaces, which count when it is compared",
  timestamp: "is not an instant without a zone; make it timestamptz",
  citext: "holds for equal what rules do not; make it text",
  float4: "is not exact; make it numeric",
  float8: "is not exact; make it numeric",
};

/** The tables of all schemas that the current user may see, but the database's own. */
export async function readPostgres(connection: Connection): Promise<FoundTable[]> {
  const columns = await connection.query(
    `select n.nspname as schema, c.relname as "table", a.attname as name, format_type(a.atttypid, a.atttypmod) as declared,
        coalesce(b.typname, t.typname) as type, coalesce(b.typcategory, t.typcategory)::text as category,
        e.typname as element, not (a.attnotnull or t.typnotnull) as optional, a.attidentity <> '' as identity,
        a.attgenerated <> '' as computed, pg_get_expr(d.adbin, d.adrelid) as "default",
        (select json_agg(l.enumlabel order by l.enumsortorder)::text from pg_enum l
          where l.enumtypid = coalesce(b.oid, t.oid)) as labels
      from pg_class c join pg_namespace n on n.oid = c.relnamespace
        join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
        join pg_type t on t.oid = a.atttypid left join pg_type b on t.typtype = 'd' and b.oid = t.typbasetype
        left join pg_type e on e.oid = coalesce(b.typelem, t.typelem) and coalesce(b.typcategory, t.typcategory) = 'A'
        left join pg_attrdef d on d.adrelid = c.oid and d.adnum = a.attnum
      where c.relkind in ('r', 'p') and not c.relispartition and n.nspname not like 'pg\\_%' and n.nspname <> 'information_schema'
      order by n.nspname, c.relname, a.attnum`,
    [],
  );
  const constraints = await connection.query(
    `select n.nspname as schema, c.relname as "table", k.contype::text as kind, pg_get_constraintdef(k.oid) as definition,
        (select json_agg(a.attname order by u.place)::text from unnest(k.conkey) with ordinality u(attnum, place)
          join pg_attribute a on a.attrelid = k.conrelid and a.attnum = u.attnum) as columns,
        fn.nspname as target_schema, f.relname as target,
        (select json_agg(a.attname order by u.place)::text from unnest(k.confkey) with ordinality u(attnum, place)
          join pg_attribute a on a.attrelid = k.confrelid and a.attnum = u.attnum) as target_columns
      from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_namespace n on n.oid = c.relnamespace
        left join pg_class f on f.oid = k.confrelid left join pg_namespace fn on fn.oid = f.relnamespace
      where k.contype in ('p', 'u', 'f', 'c') and k.conparentid = 0 and n.nspname not like 'pg\\_%'
        and n.nspname <> 'information_schema'
      order by n.nspname, c.relname, k.conname`,
    [],
  );
  const checksOf = (column: DriverRow) =>
    constraints
      .filter((row) => row["kind"] === "c" && row["schema"] === column["schema"] && row["table"] === column["table"])
      .map(({ definition }) => String(definition).replace(/^CHECK /, ""));
  return assemble({
    columns: columns.map((row) => ({ table: nameOf(row), column: columnOf(row, checksOf(row)) })),
    keys: constraints
      .filter(({ kind }) => kind === "p" || kind === "u")
      .map((row) => ({ table: nameOf(row), columns: parsedList(row["columns"]), isPrimary: row["kind"] === "p" })),
    references: constraints
      .filter(({ kind }) => kind === "f")
      .map((row) => ({ table: nameOf(row), reference: referenceOf(row) })),
  });
}

function nameOf(row: DriverRow): TableName {
  return { schema: schemaOf(row["schema"]), name: String(row["table"]) };
}

function columnOf(row: DriverRow, checks: readonly string[]): FoundColumn {
  const name = String(row["name"]);
  const type = typeOf(
    row,
    checks.map((check) => checkedChoices(check, name)).find((choices) => choices !== undefined),
  );
  const computed = row["computed"] === true;
  const text = row["default"] as string | null;
  const literal = computed ? undefined : literalDefault(text, type);
  const remark = remarks[String(row["type"])];
  return {
    name,
    declared: String(row["declared"]),
    type,
    remark,
    optional: row["optional"] === true,
    computed,
    generated: !computed && (row["identity"] === true || (text !== null && literal === undefined)),
    default: literal,
  };
}

function typeOf(row: DriverRow, choices: readonly string[] | undefined): FoundType | undefined {
  if (row["category"] === "E") return { choice: parsedList(row["labels"]) };
  if (row["category"] === "A") {
    const element = scalars[String(row["element"])];
    return typeof element === "string" && element !== "json" ? { list: element } : undefined;
  }
  const type = scalars[String(row["type"])];
  return type === "text" && choices !== undefined ? { choice: choices } : type;
}

function referenceOf(row: DriverRow): FoundReference {
  return {
    columns: parsedList(row["columns"]),
    schema: schemaOf(row["target_schema"]),
    table: String(row["target"]),
    target: parsedList(row["target_columns"]),
  };
}

function schemaOf(name: unknown): string | undefined {
  return name === "public" ? undefined : String(name);
}
