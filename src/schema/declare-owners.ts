import { readPath } from "./field-path.js";
import { type Part, readText } from "./reader.js";
import { type FieldPath, lastOf, type People, singleKey, type Table } from "./schema.js";

/** Reads the owners of tables: paths that may lead through other tables. */
export function linkOwners(
  tables: ReadonlyMap<string, Table>,
  parts: ReadonlyMap<string, Part>,
  people: People | undefined,
): void {
  for (const [name, part] of parts) {
    const table = tables.get(name);
    const owner = table && readOwner(part, table, tables, people);
    if (table !== undefined && owner !== undefined) Object.assign(table, { owner });
  }
}

function readOwner(
  part: Part,
  table: Table,
  tables: ReadonlyMap<string, Table>,
  people: People | undefined,
): FieldPath | undefined {
  const text = readText(part, `owner of "${table.name}"`);
  const path = text === undefined ? undefined : readPath(part, table, text.split("."), tables);
  if (path === undefined) return undefined;
  const last = lastOf(path);
  // In the people table itself a person's record belongs to that person: there the key leads to them.
  const target = last.type.target ?? last.type.element?.target;
  const leads = people !== undefined && (target === people.table.name || last === singleKey(people.table));
  if (leads) return path;
  part.problems.add("not-a-person", { what: `owner of "${table.name}"`, people: people?.table.name }, part.path);
  return undefined;
}
