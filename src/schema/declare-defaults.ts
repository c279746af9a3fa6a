import { readPath } from "./field-path.js";
import type { Part } from "./reader.js";
import { type DefaultSource, type Field, lastOf, type People, singleKey, type Table } from "./schema.js";

/** Reads the defaults that a session knows, when it is known who the people are. */
export function linkDefaults(
  tables: ReadonlyMap<string, Table>,
  parts: ReadonlyMap<Field, Part>,
  people: People | undefined,
): void {
  for (const [field, part] of parts) {
    const defaultFrom = readSource(field, part, tables, people);
    if (defaultFrom !== undefined) Object.assign(field, { defaultFrom });
  }
}

function readSource(
  field: Field,
  part: Part,
  tables: ReadonlyMap<string, Table>,
  people: People | undefined,
): DefaultSource | undefined {
  const { problems, path } = part;
  const { type } = field;
  const text = part.value as string;
  const wrong = (label: string) => {
    const facts = { field: field.name, use: `the default ${text}`, expected: label, label: type.noun };
    problems.add("wrong-field-type", facts, path);
    return undefined;
  };
  if (text === "now") return type.base === "timestamp" ? { kind: "now" } : wrong("a timestamp");
  if (text === "today") return type.base === "date" ? { kind: "today" } : wrong("a date");
  if (people === undefined) {
    problems.add("no-people", { what: `the default ${text}` }, path);
    return undefined;
  }
  const key = singleKey(people.table);
  const steps =
    text === "me" ? key && ([key] as const) : readPath(part, people.table, text.slice("me.".length).split("."), tables);
  if (steps === undefined) return undefined;
  const from = lastOf(steps);
  const target = from.type.target ?? (from === key ? people.table.name : undefined);
  const isSame =
    from.type.base === type.base &&
    type.element === undefined &&
    type.base !== "json" &&
    (type.target === undefined || type.target === target) &&
    (type.choices === undefined || from.type.choices?.every((one) => type.choices?.includes(one)) === true);
  return isSame ? { kind: "me", path: steps } : wrong(`the type of "${from.name}", a single ${from.type.noun}`);
}
