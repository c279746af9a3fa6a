import type { Connection, DriverRow } from "../database/connection.js";
import {
  assemble,
  checkedChoices,
  type FoundBeside,
  type FoundColumn,
  type FoundDatabase,
  type FoundReference,
  type FoundType,
  literalDefault,
  parsedList,
  precisionOf,
  type TableName,
  unreadView,
} from "./found.js";
import { fullName } from "./names.js";

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
  timestamp: "holds no zone; say --zone UTC where it is of UTC, or make it timestamptz",
  citext: "holds for equal what rules do not; make it text",
  float4: "is not exact; make it numeric",
  float8: "is not exact; make it numeric",
};

/** The comment of a domain that stands for a type which is not here: no field has it, as nobody knows what it holds. */
export const standsForType = "Stands for a type of an extension.";

/** What all schemas hold that the current user may see, but the database's own. */
export async function readPostgres(connection: Connection): Promise<FoundDatabase> {
  const columns = await connection.query(
    `select n.nspname as schema, c.relname as "table", a.attname as name, format_type(a.atttypid, a.atttypmod) as declared,
        coalesce(b.typname, t.typname) as type, t.typname as own_type, obj_description(t.oid, 'pg_type') = '${standsForType}' as stands_for, coalesce(b.typcategory, t.typcategory)::text as category,
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
  const tables = assemble({
    columns: columns.map((row) => ({ table: nameOf(row), column: columnOf(row, checksOf(row)) })),
    keys: constraints
      .filter(({ kind }) => kind === "p" || kind === "u")
      .map((row) => ({ table: nameOf(row), columns: parsedList(row["columns"]), isPrimary: row["kind"] === "p" })),
    references: constraints
      .filter(({ kind }) => kind === "f")
      .map((row) => ({ table: nameOf(row), reference: referenceOf(row) })),
  });
  return { tables, besides: await readBesides(connection) };
}

/** Views, tables of other servers, row policies and grants. */
async function readBesides(connection: Connection): Promise<FoundBeside[]> {
  const kinds: Readonly<Record<string, string>> = { v: "view", m: "materialized view", f: "foreign table" };
  const own = `n.nspname not like 'pg\\_%' and n.nspname <> 'information_schema'`;
  const views = await connection.query(
    `select n.nspname as schema, c.relname as "table", c.relkind::text as kind
      from pg_class c join pg_namespace n on n.oid = c.relnamespace
      where c.relkind in ('v', 'm', 'f') and ${own} order by n.nspname, c.relname`,
    [],
  );
  const policies = await connection.query(
    `select p.schemaname as schema, p.tablename as "table", p.policyname as name, lower(p.cmd) as command,
        array_to_string(p.roles, ', ') as roles, coalesce(p.qual, p.with_check) as condition
      from pg_policies p join pg_namespace n on n.nspname = p.schemaname where ${own}
      order by p.schemaname, p.tablename, p.policyname`,
    [],
  );
  const grants = await connection.query(
    `select n.nspname as schema, coalesce(r.rolname, 'public') as role, lower(g.privileges) as privileges,
        count(*) as n, min(c.relname) as "table"
      from pg_class c join pg_namespace n on n.oid = c.relnamespace
        cross join lateral (select a.grantee, string_agg(a.privilege_type, ', ' order by a.privilege_type) as privileges
          from aclexplode(c.relacl) a where a.grantee <> c.relowner group by a.grantee) g
        left join pg_roles r on r.oid = g.grantee
      where c.relkind in ('r', 'p') and not c.relispartition and ${own}
      group by n.nspname, r.rolname, g.privileges order by n.nspname, r.rolname, g.privileges`,
    [],
  );
  return [
    ...views.map((row) => {
      const kind = kinds[String(row["kind"])] ?? "view";
      return { schema: schemaOf(row["schema"]), sentence: `${kind} "${fullName(nameOf(row))}": ${unreadView}` };
    }),
    ...policies.map((row) => {
      const condition = String(row["condition"]).replaceAll(/\s+/g, " ");
      const what = `row policy "${String(row["name"])}" on "${fullName(nameOf(row))}"`;
      const whom = `for ${String(row["command"])} to ${String(row["roles"])}: ${condition}`;
      return {
        schema: schemaOf(row["schema"]),
        sentence: `${what}, ${whom}; it holds besides whatever a rule permits`,
      };
    }),
    ...grants.map((row) => {
      const count = Number(row["n"]);
      const where = count === 1 ? `"${fullName(nameOf(row))}"` : `${count} tables${inSchema(row["schema"])}`;
      const whom = `${String(row["privileges"])} on ${where} to ${String(row["role"])}`;
      return {
        schema: schemaOf(row["schema"]),
        sentence: `grant of ${whom}; who connects as that role passes by the rules`,
      };
    }),
  ];
}

function inSchema(name: unknown): string {
  const schema = schemaOf(name);
  return schema === undefined ? "" : ` of "${schema}"`;
}

function nameOf(row: DriverRow): TableName {
  return { schema: schemaOf(row["schema"]), name: String(row["table"]) };
}

function columnOf(row: DriverRow, checks: readonly string[]): FoundColumn {
  const [name, declared] = [String(row["name"]), String(row["declared"])];
  const type = typeOf(
    row,
    checks.map((check) => checkedChoices(check, name)).find((choices) => choices !== undefined),
  );
  const computed = row["computed"] === true;
  const text = row["default"] as string | null;
  const literal = computed ? undefined : literalDefault(text, type);
  const isOther = row["stands_for"] === true;
  const remark =
    remarks[String(row["own_type"])] ??
    remarks[String(row["type"])] ??
    (type === "decimal" ? precisionOf(declared) : isOther ? "its type is of an extension that is not here" : undefined);
  return {
    name,
    declared,
    type,
    remark,
    isZoneless: row["type"] === "timestamp",
    optional: row["optional"] === true,
    computed,
    generated: !computed && (row["identity"] === true || (text !== null && literal === undefined)),
    default: literal,
  };
}

function typeOf(row: DriverRow, choices: readonly string[] | undefined): FoundType | undefined {
  if (row["stands_for"] === true) return undefined;
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
