import type { ChosenKey } from "./choose-keys.js";
import type { FoundReference, FoundTable, LeftOut } from "./found.js";
import { fullName, isDeclared } from "./names.js";

/** A foreign key that the document declares as a reference. */
export interface ResolvedReference {
  /** What the table is called in the document. */
  readonly target: string;
  /** The columns that hold its key, in the order of that key. */
  readonly by: readonly string[];
}

type Names = ReadonlyMap<FoundTable, ChosenKey & { readonly name: string }>;

/** Which foreign keys of the tables become references; each of the others is left out with a sentence that says why. */
export function resolveReferences(
  found: readonly FoundTable[],
  names: Names,
  leftOut: LeftOut[],
): ReadonlyMap<FoundTable, readonly ResolvedReference[]> {
  const tables = new Map(found.map((table) => [fullName(table), table]));
  const typedBy = new Map<FoundTable, FoundTable[]>();
  const resolved = new Map<FoundTable, ResolvedReference[]>();
  for (const [table, { columns: key }] of names) {
    const own: ResolvedReference[] = [];
    resolved.set(table, own);
    for (const reference of table.references) {
      const answer = resolve(table, key, reference, own);
      if (typeof answer !== "string") {
        own.push(answer);
        continue;
      }
      const what = `foreign key (${reference.columns.join(", ")}) of "${fullName(table)}"`;
      leftOut.push({ kind: "foreign key", sentence: `${what}: ${answer}` });
    }
  }
  return resolved;

  function resolve(
    table: FoundTable,
    key: readonly string[],
    { columns, schema, table: name, target }: FoundReference,
    before: readonly ResolvedReference[],
  ): ResolvedReference | string {
    const leadsTo = fullName({ schema, name });
    const to = tables.get(leadsTo);
    if (to === undefined) return `it leads to "${leadsTo}", which is not there`;
    const named = names.get(to);
    if (named === undefined) return `it leads to "${leadsTo}", which is left out`;
    const by = named.columns.map((one) => columns[target.indexOf(one)]);
    if (named.columns.length !== target.length || !by.every((one) => one !== undefined)) {
      const [there, here] = [target.join(", "), named.columns.join(", ")];
      return `it leads to (${there}) of "${leadsTo}", of which the key here is ${here}`;
    }
    const isField = (column: string) => table.columns.some((one) => one.name === column && isDeclared(one));
    const lost = by.find((column) => !isField(column));
    if (lost !== undefined) return `its column "${lost}" is left out`;
    const same = before.find((one) => one.by.join("\n") === by.join("\n"));
    if (same !== undefined) return `its columns refer to "${same.target}" already`;
    const [only = ""] = by;
    // The type of such a key is that of the other table's key.
    if (by.length === 1 && key.includes(only)) {
      if (isTypedBy(to, table))
        return "as a reference it would make its key depend on itself; the column is there with its type";
      typedBy.set(table, [...(typedBy.get(table) ?? []), to]);
    }
    return { target: named.name, by };
  }

  /** Whether the key of a table has its type from another, by whatever way. */
  function isTypedBy(one: FoundTable, other: FoundTable, seen = new Set<FoundTable>()): boolean {
    if (one === other) return true;
    if (seen.has(one)) return false;
    seen.add(one);
    return (typedBy.get(one) ?? []).some((next) => isTypedBy(next, other, seen));
  }
}
