import type { FieldInput, TableInput } from "../schema/document.js";
import type { FoundColumn, FoundReference, FoundTable } from "./found.js";

/** Tables of a database as a document declares them, and what of them it has no words for. */
export interface DeclaredFound {
  readonly tables: readonly DeclaredTable[];
  /** One sentence each. */
  readonly leftOut: readonly string[];
}

export interface DeclaredTable {
  readonly found: FoundTable;
  readonly name: string;
  /** Where it differs from the name. */
  readonly source: string | undefined;
  readonly key: string | readonly string[];
  readonly entries: readonly FieldEntry[];
}

/** A field, or a column that there is none for. */
export interface FieldEntry {
  readonly name: string;
  readonly field: FieldInput | undefined;
  /** What is to be known of the field, or why there is none. */
  readonly remark: string | undefined;
}

/** The names that tables have in the document. */
type Names = ReadonlyMap<FoundTable, string>;

export function declareFound(found: readonly FoundTable[]): DeclaredFound {
  const leftOut: string[] = [];
  const names = nameTables(found, leftOut);
  const tables = [...names].map(([table, name]) => declareTable(table, name, names, leftOut));
  return { tables, leftOut };
}

/** The same as an application writes it. */
export function tableInput({ source, key, entries }: DeclaredTable): TableInput {
  const fields: Record<string, FieldInput> = Object.create(null);
  for (const { name, field } of entries) if (field !== undefined) fields[name] = field;
  return { ...(source === undefined ? {} : { source }), key, fields } as TableInput;
}

/** The tables of a store of who holds what. */
const keptNames = [
  "portier_assignments",
  "portier_delegations",
  "portier_protections",
  "portier_audit_log",
  "portier_audit_log_stays",
  "portier_state",
];

/** By their own names; by schema and name where two schemas have the same. */
function nameTables(found: readonly FoundTable[], leftOut: string[]): Names {
  const count = new Map<string, number>();
  for (const { name } of found) count.set(name, (count.get(name) ?? 0) + 1);
  const named = new Map<FoundTable, string>();
  for (const table of found) {
    const isAlone = count.get(table.name) === 1 || table.schema === undefined;
    const name = isAlone ? table.name : `${table.schema}.${table.name}`;
    const isTyped = (key: string) => table.columns.some((column) => column.name === key && column.type !== undefined);
    const why =
      table.key.length === 0
        ? "it has no key, so no record of it can be named"
        : keptNames.includes(table.name)
          ? 'it is kept by Portier: say "assignments: true" under "people" instead'
          : !table.key.every(isTyped)
            ? "its key has a type that there is none for here"
            : !isName(name)
              ? "a table cannot be called so here"
              : undefined;
    if (why === undefined) named.set(table, name);
    else leftOut.push(`table "${fullName(table)}": ${why}`);
  }
  return named;
}

function declareTable(table: FoundTable, name: string, names: Names, leftOut: string[]): DeclaredTable {
  const what = fullName(table);
  const [onlyKey = ""] = table.key;
  const entries = table.columns.map((column): FieldEntry => {
    if (column.type !== undefined && isName(column.name)) {
      return { name: column.name, field: fieldOf(column, table, names), remark: column.remark };
    }
    const unknown = column.type === undefined ? "there is no such type here" : "a field cannot be called so here";
    const why = column.remark ?? unknown;
    leftOut.push(`column "${column.name}" of "${what}": ${column.declared}, ${why}`);
    return { name: column.name, field: undefined, remark: `left out, ${column.declared}: ${why}` };
  });
  const taken = new Set(entries.map((entry) => entry.name));
  for (const reference of table.references.filter(({ columns }) => columns.length > 1)) {
    const target = targetOf(reference, names);
    const columns = reference.columns.join(", ");
    const candidates = target === undefined ? [] : [target.name, `${target.name} by ${columns}`];
    const free = candidates.find((one) => !taken.has(one) && isName(one));
    if (target === undefined || free === undefined) {
      leftOut.push(`reference (${columns}) of "${what}": it does not lead to the key of a table here`);
      continue;
    }
    taken.add(free);
    entries.push({ name: free, field: { reference: target.name, by: [...target.by] }, remark: undefined });
  }
  const source = table.schema !== undefined || name !== table.name ? what : undefined;
  return { found: table, name, source, key: table.key.length === 1 ? onlyKey : table.key, entries };
}

function fullName({ schema, name }: Pick<FoundTable, "schema" | "name">): string {
  return schema === undefined ? name : `${schema}.${name}`;
}

function isName(name: string): boolean {
  const isWord = !/[/\p{Cc}]|\.\.|^-|^tag |^\s|\s$/u.test(name);
  return isWord && !["", "*", "all", "yes", "__proto__"].includes(name);
}

function fieldOf(column: FoundColumn, table: FoundTable, names: Names): FieldInput {
  const own = table.references.find(({ columns }) => columns.length === 1 && columns[0] === column.name);
  const target = own && targetOf(own, names);
  // A key that refers to another table's key has that one's type; as a reference it could lead back to itself.
  const isKey = table.key.length === 1 && table.key[0] === column.name;
  const type = target !== undefined && !isKey ? { reference: target.name } : column.type;
  const optional = column.optional && !table.key.includes(column.name);
  const more = {
    ...(optional ? { optional } : {}),
    ...(column.generated ? { generated: true } : {}),
    ...(column.computed ? { computed: true } : {}),
    ...(column.default === undefined || column.generated ? {} : { default: column.default }),
  };
  if (typeof type !== "string") return { ...type, ...more } as FieldInput;
  return (Object.keys(more).length === 0 ? type : { type, ...more }) as FieldInput;
}

/** The table that a reference leads to by its whole key, and the columns in the order of that key. */
function targetOf(
  { schema, table, columns, target }: FoundReference,
  names: Names,
): { readonly name: string; readonly by: readonly string[] } | undefined {
  const found = [...names].find(([one]) => one.schema === schema && one.name === table);
  if (found === undefined) return undefined;
  const [{ key }, name] = found;
  const by = key.map((field) => columns[target.indexOf(field)]);
  const isWhole = key.length === target.length && by.every((one) => one !== undefined);
  return isWhole ? { name, by: by as string[] } : undefined;
}
