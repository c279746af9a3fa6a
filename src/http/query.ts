import type { Field, Table } from "../schema/schema.js";
import { HttpProblem } from "./problem.js";

/** The words of a list's query; everything else in it is the name of a field. */
export const queryWords = ["where", "search", "sort", "limit", "offset", "after", "total", "null"] as const;
/** Names the fields that have no value. */
export const nullsName = "null";

const prefix = "field.";

/** The name under which a field is asked for: a field that is called like a word of the query has `field.` before it. */
export function parameterOf(field: string): string {
  const isWord = (queryWords as readonly string[]).includes(field);
  return isWord || field.startsWith(prefix) ? prefix + field : field;
}

/** The conditions that a query puts on fields: `status=on_display`, `field.limit=3`, `null=keeper`. */
export function fieldConditions(table: Table, known: Table, asked: URLSearchParams): readonly string[] {
  const find = (name: string): Field => {
    const field = table.byName.get(name);
    if (field !== undefined) return field;
    const names = known.fields.map((one) => one.name).join(", ");
    throw new HttpProblem("bad-request", `There is no field "${name}" to filter by; there are ${names}.`);
  };
  const values = [...asked].filter(([name]) => !(queryWords as readonly string[]).includes(name));
  return [
    ...namesIn(asked, nullsName).map((name) => `${quoted(find(name))} is null`),
    ...values.map(([name, text]) => equals(find(name.startsWith(prefix) ? name.slice(prefix.length) : name), text)),
  ];
}

/** The names with commas between that a query has under a word. */
export function namesIn(asked: URLSearchParams, word: string): readonly string[] {
  return (asked.get(word) ?? "").split(",").filter((name) => name !== "");
}

export function quoted({ name }: Pick<Field, "name">): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A field's value as a condition: what does not fit the field is met by no record. */
function equals(field: Field, text: string): string {
  const { type } = field;
  const isNumber = /^-?\d+(\.\d+)?$/.test(text);
  const value =
    type.canonical(text) ??
    (isNumber ? type.canonical(Number(text)) : undefined) ??
    (text === "true" || text === "false" ? type.canonical(text === "true") : undefined);
  return value === undefined ? "false" : `${quoted(field)} = ${type.literal(value)}`;
}
