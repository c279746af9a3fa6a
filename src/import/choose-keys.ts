import type { FoundKey, FoundTable } from "./found.js";
import { isDeclared } from "./names.js";

/** The columns by which the records of a table are named. */
export interface ChosenKey {
  readonly columns: readonly string[];
  /** Why these are not those of the primary key. */
  readonly remark: string | undefined;
}

/**
 * The key of each table: the one that most foreign keys lead to, as a reference holds the key of a record; of those to which
 * as many lead the primary one. Only keys of columns that a document has types for; a table that has none is not in it.
 */
export function chooseKeys(found: readonly FoundTable[]): ReadonlyMap<FoundTable, ChosenKey> {
  const leading = new Map<string, number>();
  for (const { references } of found) {
    for (const { schema, table, target } of references) {
      const id = idOf(schema, table, target);
      leading.set(id, (leading.get(id) ?? 0) + 1);
    }
  }
  const chosen = new Map<FoundTable, ChosenKey>();
  for (const table of found) {
    const count = ({ columns }: FoundKey) => leading.get(idOf(table.schema, table.name, columns)) ?? 0;
    const isUsable = ({ columns }: FoundKey) =>
      columns.every((name) => table.columns.some((column) => column.name === name && isDeclared(column)));
    const [first, ...others] = table.keys.filter(isUsable);
    if (first === undefined) continue;
    const best = others.reduce((one, other) => (count(other) > count(one) ? other : one), first);
    const primary = table.keys.find(({ isPrimary }) => isPrimary);
    chosen.set(table, { columns: best.columns, remark: best === primary ? undefined : remarkOf(primary, best) });

    function remarkOf(from: FoundKey | undefined, to: FoundKey): string {
      if (from === undefined) return "there is no primary key; this is unique and never null";
      const named = `the primary key is ${from.columns.join(", ")}`;
      if (!isUsable(from)) return `${named}, of a type that there is none for here`;
      return `${named}; ${count(to)} of the foreign keys lead here, ${count(from)} there`;
    }
  }
  return chosen;
}

function idOf(schema: string | undefined, table: string, columns: readonly string[]): string {
  return JSON.stringify([schema, table, [...columns].sort()]);
}
