/** What a database says of what it holds, in words that all databases share. */
export interface FoundDatabase {
  readonly tables: readonly FoundTable[];
  readonly besides: readonly FoundBeside[];
}

/** Something that is there besides tables, and is not read. */
export interface FoundBeside {
  readonly schema: string | undefined;
  /** What it is, and what to make of it. */
  readonly sentence: string;
}

export interface FoundTable {
  /** Undefined for the schema that names need not mention. */
  readonly schema: string | undefined;
  readonly name: string;
  readonly columns: readonly FoundColumn[];
  /** By which a record can be named: the primary key first, and unique keys of columns that are never null. */
  readonly keys: readonly FoundKey[];
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
  /** Whether it holds instants without their zone. */
  readonly isZoneless?: boolean;
  /** The zone that they are of, where somebody says. */
  readonly zone?: "UTC";
  readonly optional: boolean;
  /** The database fills it in when it is not given. */
  readonly generated: boolean;
  /** The database works it out; it is never set. */
  readonly computed: boolean;
  readonly default?: string | number | boolean | undefined;
}

/** Something of a database that is not in the document. What belongs to a table that is left out goes with it. */
export interface LeftOut {
  readonly kind: "table" | "column" | "foreign key";
  /** What it is, and why it is left out. */
  readonly sentence: string;
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

export interface FoundKey {
  readonly columns: readonly string[];
  readonly isPrimary: boolean;
}

export interface FoundReference {
  readonly columns: readonly string[];
  readonly schema: string | undefined;
  readonly table: string;
  /** The columns there, in the same order. */
  readonly target: readonly string[];
}

/** The values of a check that a column is one of some texts: `status in ('a', 'b')`, as databases print it. */
export function checkedChoices(check: string, column: string): readonly string[] | undefined {
  // PostgreSQL puts each value into brackets where it was read from a dump.
  const plain = check
    .replaceAll(/::[a-z ]+(\[\])?/g, "")
    .replaceAll(/["`]/g, "")
    .replaceAll(/([[,]\s*)\(('(?:[^']|'')*')\)/g, "$1$2");
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
  readonly keys: readonly (FoundKey & { readonly table: TableName })[];
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
    const [primary, unique] = [own.filter(({ isPrimary }) => isPrimary), own.filter(({ isPrimary }) => !isPrimary)];
    return {
      ...group.table,
      columns: group.columns,
      keys: [...primary, ...unique.filter((one) => one.columns.every(isRequired))].map(({ columns, isPrimary }) => ({
        columns,
        isPrimary,
      })),
      references: references.filter(({ table }) => idOf(table) === id).map(({ reference }) => reference),
    };
  });
}

/** A cell that holds a list as JSON. */
export function parsedList(cell: unknown): string[] {
  return cell === null || cell === undefined ? [] : (JSON.parse(String(cell)) as string[]);
}

/** What is said of a view. */
export const unreadView = 'a table whose "source" it is, with one of its fields as key, shows its records';

/** What a document does not say of a decimal column; undefined where nothing is rounded. */
export function precisionOf(declared: string): string | undefined {
  const found = /\((\d+)(?:,\s*(-?\d+))?\)/.exec(declared);
  return found === null ? undefined : `${found[1]} digits, ${found[2] ?? "0"} behind the point`;
}

/** The same columns, where those without a zone are of one. */
export function inZone(table: FoundTable, zone: "UTC"): FoundTable {
  const columns = table.columns.map((column): FoundColumn => {
    if (column.isZoneless !== true) return column;
    return { ...column, type: "timestamp", zone, remark: undefined };
  });
  return { ...table, columns };
}
