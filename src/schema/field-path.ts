import type { Part } from "./reader.js";
import { type Field, type FieldPath, type Table, writtenOut } from "./schema.js";

/** Reads a path of references from a table: each name but the last leads to the next table. */
export function readPath(
  part: Part,
  table: Table,
  names: readonly string[],
  tables: ReadonlyMap<string, Table>,
): FieldPath | undefined {
  const path: Field[] = [];
  let current: Table = table;
  for (const [index, name] of names.entries()) {
    const field = findField(part, current, name);
    if (field === undefined) return undefined;
    path.push(...writtenOut(field));
    if (index === names.length - 1) break;
    const next = field.type.target === undefined ? undefined : tables.get(field.type.target);
    if (next === undefined) {
      const facts = { table: current.name, field: name, label: field.type.noun };
      part.problems.add("not-a-reference", facts, part.path);
      return undefined;
    }
    current = next;
  }
  const [first, ...rest] = path;
  return first && [first, ...rest];
}

/** The field by a name, or a problem at the place of the name. */
export function findField(part: Part, table: Pick<Table, "name" | "byName">, name: string): Field | undefined {
  const field = table.byName.get(name);
  if (field === undefined) {
    part.problems.add("unknown-field", { table: table.name, name, candidates: table.byName.keys() }, part.path);
  }
  return field;
}
