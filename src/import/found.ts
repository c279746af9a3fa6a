/** What a database says of its tables, in words that all databases share. */
export interface FoundTable {
  /** Undefined for the schema that names need not mention. */
  readonly schema: string | undefined;
  readonly name: string;
  readonly columns: readonly FoundColumn[];
  /** The columns of the primary key, or of a unique key without nulls; empty where there is none. */
  readonly key: readonly string[];
  readonly references: readonly FoundReference[];
}

export interface FoundColumn {
  readonly name: string;
  /** The type in the database's own words, for remarks. */
  readonly declared: string;
  /** What it is here; undefined for what has no type here. */
  readonly type: FoundType | undefined;
  /** Why a column has no type here, or what is to be known of the one that it has. */
  readonly remark?: string | undefined;
  readonly optional: boolean;
  /** The database fills it in when it is not given. */
  readonly generated: boolean;
  /** The database works it out; it is never set. */
  readonly computed: boolean;
  readonly default?: string | number | boolean | undefined;
}

export type FoundType = ScalarType | { readonly list: ScalarType };

type ScalarType =
  | "text"
  | "integer"
  | "decimal"
  | "boolean"
  | "date"
  | "timestamp"
  | "json"
  | { readonly choice: readonly string[] };

export interface FoundReference {
  readonly columns: readonly string[];
  readonly schema: string | undefined;
  readonly table: string;
  /** The columns there, in the same order. */
  readonly target: readonly string[];
}

/** The values of a check that a column is one of some texts: `status in ('a', 'b')`, as databases print it. */
export function checkedChoices(check: string, column: string): readonly string[] | undefined {
  const plain = check.replaceAll(/::[a-z ]+(\[\])?/g, "").replaceAll(/["`]/g, "");
  const name = column.replaceAll(/[.*+?^${}()|[\]\\]/g, "\\$&");
  const list = String.raw`((?:'(?:[^']|'')*'\s*,\s*)*'(?:[^']|'')*')`;
  const found = new RegExp(
    String.raw`^[\s(]*${name}[\s)]*(?:in\s*\(\s*${list}\s*\)|=\s*any\s*\(+\s*array\s*\[\s*${list}\s*\]\s*\)+)[\s)]*$`,
    "i",
  ).exec(plain);
  const values = found?.[1] ?? found?.[2];
  if (values === undefined) return undefined;
  return [...values.matchAll(/'((?:[^']|'')*)'/g)].map(([, value = ""]) => value.replaceAll("''", "'"));
}

/** A default that is written out; an expression is none. */
export function literalDefault(
  text: string | null | undefined,
  type: FoundType | undefined,
): string | number | boolean | undefined {
  if (text === null || text === undefined || type === undefined) return undefined;
  const plain = text.trim().replace(/::[\w" .]+(\[\])?$/, "");
  const quoted = /^'((?:[^']|'')*)'$/.exec(plain)?.[1]?.replaceAll("''", "'");
  if (type === "boolean")
    return /^(true|1)$/i.test(quoted ?? plain) ? true : /^(false|0)$/i.test(quoted ?? plain) ? false : undefined;
  if (type === "integer") return /^-?\d{1,15}$/.test(quoted ?? plain) ? Number(quoted ?? plain) : undefined;
  if (type === "decimal") return /^-?\d+(\.\d+)?$/.test(quoted ?? plain) ? (quoted ?? plain) : undefined;
  if (type === "text") return quoted;
  if (typeof type === "object" && "choice" in type)
    return quoted !== undefined && type.choice.includes(quoted) ? quoted : undefined;
  return undefined;
}

/** What a reader found, as lists over all tables. `table` names are with their schema. */
export interface Findings {
  readonly columns: readonly { readonly table: TableName; readonly column: FoundColumn }[];
  readonly keys: readonly {
    readonly table: TableName;
    readonly columns: readonly string[];
    readonly isPrimary: boolean;
  }[];
  readonly references: readonly { readonly table: TableName; readonly reference: FoundReference }[];
}

export interface TableName {
  readonly schema: string | undefined;
  readonly name: string;
}

/** Puts what belongs to one table together, in the order of the columns. */
export function assemble({ columns, keys, references }: Findings): FoundTable[] {
  const idOf = ({ schema, name }: TableName) => JSON.stringify([schema, name]);
  const grouped = new Map<string, { table: TableName; columns: FoundColumn[] }>();
  for (const { table, column } of columns) {
    const id = idOf(table);
    const group = grouped.get(id) ?? { table, columns: [] };
    group.columns.push(column);
    grouped.set(id, group);
  }
  return [...grouped].map(([id, group]) => {
    const isRequired = (name: string) => group.columns.some((column) => column.name === name && !column.optional);
    const own = keys.filter(({ table }) => idOf(table) === id);
    // The primary key; else a unique key of columns that are never null.
    const key = own.find(({ isPrimary }) => isPrimary) ?? own.find((one) => one.columns.every(isRequired));
    return {
      ...group.table,
      columns: group.columns,
      key: key?.columns ?? [],
      references: references.filter(({ table }) => idOf(table) === id).map(({ reference }) => reference),
    };
  });
}

/** A cell that holds a list as JSON. */
export function parsedList(cell: unknown): string[] {
  return cell === null || cell === undefined ? [] : (JSON.parse(String(cell)) as string[]);
}
