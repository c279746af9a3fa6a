import { personType } from "../conditions/check.js";
import type { Expression, Operand } from "../conditions/expression.js";
import { type Part, readTexts } from "../schema/reader.js";
import { type Field, type FieldPath, type Schema, singleKey, type Table } from "../schema/schema.js";
import type { Who } from "./rule.js";

/** Reads `to` or `except`. Entries that name nothing are reported and left out. */
export function readWho(part: Part | undefined, what: string, schema: Schema, table: Table): Who[] {
  const entries: Who[] = [];
  for (const entry of readTexts(part, what)) {
    const who = readEntry(entry, entry.value as string, schema, table);
    if (who !== undefined) entries.push(who);
  }
  return entries;
}

function readEntry(part: Part, text: string, schema: Schema, table: Table): Who | undefined {
  if (text === "anyone" || text === "signed-in") return { kind: text, text };
  if (text === "owner") return related(part, text, ownerPath(part, table), schema, "belongs");
  if (/^above\s/.test(text)) {
    const whose = text.slice("above".length).trim();
    const path = whose === "owner" ? ownerPath(part, table) : personPath(part, whose, schema, table);
    return related(part, text, path, schema, "above");
  }
  if (schema.roles.has(text)) return { kind: "role", role: text, text };
  const candidates = ["anyone", "signed-in", "owner", "above owner", ...schema.roles.keys()];
  part.problems.add("unknown-who", { name: text, candidates }, part.path);
  return undefined;
}

function related(
  part: Part,
  text: string,
  path: FieldPath | undefined,
  schema: Schema,
  kind: "belongs" | "above",
): Who | undefined {
  const people = schema.people;
  const key = people && singleKey(people.table);
  if (people === undefined || key === undefined) {
    part.problems.add("no-people", { what: `"${text}"` }, part.path);
    return undefined;
  }
  if (path === undefined) return undefined;
  const person: Operand = { kind: "me", type: personType(people.table, [key]), path: [key] };
  if (kind === "belongs") return { kind: "related", met: { kind, path, person }, text };
  if (people.manager === undefined) {
    part.problems.add("no-manager", { what: `"${text}"` }, part.path);
    return undefined;
  }
  const met: Expression = { kind, path, line: [people.manager], person };
  return { kind: "related", met, text };
}

function ownerPath(part: Part, table: Table): FieldPath | undefined {
  if (table.owner === undefined) part.problems.add("no-owner", { table: table.name }, part.path);
  return table.owner;
}

/** A path of references from the table to a person. */
function personPath(part: Part, text: string, schema: Schema, table: Table): FieldPath | undefined {
  const path: Field[] = [];
  let current: Table | undefined = table;
  for (const name of text.split(".")) {
    const field: Field | undefined = current?.byName.get(name);
    if (current === undefined || field === undefined) {
      const facts = { table: current?.name ?? table.name, name, candidates: current?.byName.keys() ?? [] };
      part.problems.add("unknown-field", facts, part.path);
      return undefined;
    }
    path.push(field);
    current = field.type.target === undefined ? undefined : schema.tables.get(field.type.target);
  }
  const [first, ...rest] = path;
  const people = schema.people?.table;
  if (first === undefined) return undefined;
  if (people === undefined || current !== people) {
    part.problems.add("not-a-person", { what: `"${text}"`, people: people?.name }, part.path);
    return undefined;
  }
  return [first, ...rest];
}
