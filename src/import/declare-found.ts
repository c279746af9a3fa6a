import type { FieldInput, TableInput } from "../schema/document.js";
import { type ChosenKey, chooseKeys } from "./choose-keys.js";
import type { FoundColumn, FoundTable, LeftOut } from "./found.js";
import { fullName, isDeclared, isName } from "./names.js";
import { type ResolvedReference, resolveReferences } from "./resolve-references.js";

/** Tables of a database as a document declares them, and what of them it has no words for. */
export interface DeclaredFound {
  readonly tables: readonly DeclaredTable[];
  readonly leftOut: readonly LeftOut[];
}

export interface DeclaredTable {
  readonly found: FoundTable;
  readonly name: string;
  /** Where it differs from the name. */
  readonly source: string | undefined;
  readonly key: string | readonly string[];
  /** Why the key is not the primary one. */
  readonly keyRemark: string | undefined;
  readonly entries: readonly FieldEntry[];
}

/** A field, or a column that there is none for. */
export interface FieldEntry {
  readonly name: string;
  readonly field: FieldInput | undefined;
  /** What is to be known of the field, or why there is none. */
  readonly remark: string | undefined;
}

/** A table that the document declares: what it is called there, and its key. */
interface Named extends ChosenKey {
  readonly name: string;
}

type Names = ReadonlyMap<FoundTable, Named>;

export function declareFound(found: readonly FoundTable[]): DeclaredFound {
  const leftOut: LeftOut[] = [];
  const names = nameTables(found, leftOut);
  const references = resolveReferences(found, names, leftOut);
  const tables = [...names].map(([table, named]) => declareTable(table, named, references.get(table) ?? [], leftOut));
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
function nameTables(found: readonly FoundTable[], leftOut: LeftOut[]): Names {
  const count = new Map<string, number>();
  for (const { name } of found) count.set(name, (count.get(name) ?? 0) + 1);
  const keys = chooseKeys(found);
  const named = new Map<FoundTable, Named>();
  for (const table of found) {
    const isAlone = count.get(table.name) === 1 || table.schema === undefined;
    const name = isAlone ? table.name : `${table.schema}.${table.name}`;
    const chosen = keys.get(table);
    const why = keptNames.includes(table.name)
      ? 'it is kept by Portier: say "assignments: true" under "people" instead'
      : !isName(name)
        ? "a table cannot be called so here"
        : table.keys.length === 0
          ? "it has no key, so no record of it can be named"
          : "its key has a type that there is none for here";
    const isDeclared = chosen !== undefined && isName(name) && !keptNames.includes(table.name);
    if (isDeclared) named.set(table, { ...chosen, name });
    else leftOut.push({ kind: "table", sentence: `table "${fullName(table)}": ${why}` });
  }
  return named;
}

function declareTable(
  table: FoundTable,
  { name, columns: key, remark }: Named,
  references: readonly ResolvedReference[],
  leftOut: LeftOut[],
): DeclaredTable {
  const what = fullName(table);
  const entries = table.columns.map((column): FieldEntry => {
    if (isDeclared(column)) {
      const own = references.find(({ by }) => by.length === 1 && by[0] === column.name);
      return { name: column.name, field: fieldOf(column, own?.target, key), remark: column.remark };
    }
    const unknown = column.type === undefined ? "there is no such type here" : "a field cannot be called so here";
    const why = column.remark ?? unknown;
    leftOut.push({ kind: "column", sentence: `column "${column.name}" of "${what}": ${column.declared}, ${why}` });
    return { name: column.name, field: undefined, remark: `left out, ${column.declared}: ${why}` };
  });
  const taken = new Set(entries.map((entry) => entry.name));
  for (const { by, target } of references) {
    if (by.length === 1) continue;
    const columns = by.join(", ");
    const free = [target, `${target} by ${columns}`].find((one) => !taken.has(one) && isName(one));
    if (free === undefined) {
      const why = `a field "${target}" is there already`;
      leftOut.push({ kind: "foreign key", sentence: `foreign key (${columns}) of "${what}": ${why}` });
      continue;
    }
    taken.add(free);
    entries.push({ name: free, field: { reference: target, by: [...by] }, remark: undefined });
  }
  const source = table.schema !== undefined || name !== table.name ? what : undefined;
  const [only = ""] = key;
  return { found: table, name, source, key: key.length === 1 ? only : key, keyRemark: remark, entries };
}

function fieldOf(column: FoundColumn, target: string | undefined, key: readonly string[]): FieldInput {
  const own = column.zone === undefined ? column.type : { type: "timestamp", zone: column.zone };
  const type = target === undefined ? own : { reference: target };
  const optional = column.optional && !key.includes(column.name);
  const more = {
    ...(optional ? { optional } : {}),
    ...(column.generated ? { generated: true } : {}),
    ...(column.computed ? { computed: true } : {}),
    ...(column.default === undefined || column.generated ? {} : { default: column.default }),
  };
  if (typeof type !== "string") return { ...type, ...more } as FieldInput;
  return (Object.keys(more).length === 0 ? type : { type, ...more }) as FieldInput;
}
