import { stringify } from "yaml";
import type { FoundColumn, FoundReference, FoundTable } from "./found.js";
import { guessOwner, guessPeople, isSensitive } from "./guesses.js";

/** A document as text, and what of the database is not in it. */
export interface Written {
  readonly text: string;
  readonly tables: number;
  readonly fields: number;
  /** One sentence each, in the order of the tables. */
  readonly leftOut: readonly string[];
}

/**
 * Writes a document without rules: nothing is permitted yet. What cannot be known for certain (who the people are, who
 * owns a record, what is sensitive) stands in comments, to be looked at and put in.
 */
export function writeDocument(found: readonly FoundTable[], from: string): Written {
  const leftOut: string[] = [];
  const names = nameTables(found, leftOut);
  const kept = new Map([...names].filter(([table]) => table.key.length > 0));
  const lines = [`# Read from ${from}. No rule yet: nobody may do anything.`, "portier: 1", ""];
  const people = guessPeople(found, kept);
  if (people !== undefined) {
    lines.push("# A guess who can ask, by names alone. Look at it before you use it:", `# people: ${flow(people)}`, "");
  }
  let fields = 0;
  const blocks: string[] = [];
  for (const [table, name] of kept) {
    const written = writeTable(table, name, kept, people?.table, leftOut);
    if (written === undefined) continue;
    blocks.push(written.lines.join("\n"));
    fields += written.fields;
  }
  lines.push(blocks.length === 0 ? "tables: {}" : `tables:\n${blocks.join("\n\n")}`);
  return { text: `${lines.join("\n")}\n`, tables: blocks.length, fields, leftOut };
}

/** By their own names; by schema and name where two schemas have the same. */
function nameTables(found: readonly FoundTable[], leftOut: string[]): Map<FoundTable, string> {
  const count = new Map<string, number>();
  for (const { name } of found) count.set(name, (count.get(name) ?? 0) + 1);
  const named = new Map<FoundTable, string>();
  for (const table of found) {
    const isAlone = count.get(table.name) === 1 || table.schema === undefined;
    const name = isAlone ? table.name : `${table.schema}.${table.name}`;
    const what = fullName(table);
    if (table.key.length === 0) leftOut.push(`table "${what}": it has no key, so no record of it can be named`);
    else if (table.key.some((key) => table.columns.some((column) => column.name === key && column.type === undefined)))
      leftOut.push(`table "${what}": its key has a type that there is none for here`);
    else if (!isName(name)) leftOut.push(`table "${what}": a table cannot be called so here`);
    else named.set(table, name);
  }
  return named;
}

function fullName({ schema, name }: Pick<FoundTable, "schema" | "name">): string {
  return schema === undefined ? name : `${schema}.${name}`;
}

function isName(name: string): boolean {
  const isWord = !/[/\p{Cc}]|\.\.|^-|^tag |^\s|\s$/u.test(name);
  return isWord && !["", "*", "all", "yes", "__proto__"].includes(name);
}

interface WrittenTable {
  readonly lines: readonly string[];
  readonly fields: number;
}

function writeTable(
  table: FoundTable,
  name: string,
  kept: ReadonlyMap<FoundTable, string>,
  people: string | undefined,
  leftOut: string[],
): WrittenTable | undefined {
  const what = fullName(table);
  const [onlyKey] = table.key;
  const lines = [`  ${scalar(name)}:`];
  if (table.schema !== undefined || name !== table.name) lines.push(`    source: ${scalar(what)}`);
  lines.push(`    key: ${table.key.length === 1 ? scalar(onlyKey) : flow(table.key)}`);
  const owner = people === undefined ? undefined : guessOwner(table, name, kept, people);
  if (owner !== undefined) lines.push(`    # owner: ${scalar(owner)}   # a guess: it leads to ${people}`);
  lines.push("    fields:");
  let fields = 0;
  const taken = new Set<string>();
  for (const column of table.columns) {
    if (column.type === undefined || !isName(column.name)) {
      const why =
        column.remark ??
        (column.type === undefined ? "there is no such type here" : "a field cannot be called so here");
      lines.push(`      # ${oneLine(column.name)}: left out, ${oneLine(column.declared)}: ${why}`);
      leftOut.push(`column "${column.name}" of "${what}": ${column.declared}, ${why}`);
      continue;
    }
    const comments = [column.remark, isSensitive(column.name) ? "sensitive: true? a guess by its name" : undefined];
    const said = comments.filter((comment) => comment !== undefined).join("; ");
    const field = fieldOf(column, table, kept);
    lines.push(`      ${scalar(column.name)}: ${flow(field)}${said === "" ? "" : `   # ${said}`}`);
    taken.add(column.name);
    fields++;
  }
  for (const reference of table.references.filter(({ columns }) => columns.length > 1)) {
    const target = targetOf(reference, kept);
    if (target === undefined) {
      leftOut.push(
        `reference (${reference.columns.join(", ")}) of "${what}": it does not lead to the key of a table here`,
      );
      continue;
    }
    const free = [target.name, `${target.name}_of_${reference.columns.join("_")}`].find(
      (one) => !taken.has(one) && isName(one),
    );
    if (free === undefined) continue;
    taken.add(free);
    lines.push(`      ${scalar(free)}: ${flow({ reference: target.name, by: target.by })}`);
    fields++;
  }
  return { lines, fields };
}

function fieldOf(column: FoundColumn, table: FoundTable, kept: ReadonlyMap<FoundTable, string>): unknown {
  const own = table.references.find(({ columns }) => columns.length === 1 && columns[0] === column.name);
  const target = own && targetOf(own, kept);
  const isCircle = target !== undefined && table.key.length === 1 && table.key[0] === column.name;
  const type = target !== undefined && !isCircle ? { reference: target.name } : column.type;
  const optional = column.optional && !table.key.includes(column.name);
  const more = {
    ...(optional ? { optional } : {}),
    ...(column.generated ? { generated: true } : {}),
    ...(column.computed ? { computed: true } : {}),
    ...(column.default === undefined || column.generated ? {} : { default: column.default }),
  };
  if (typeof type !== "string") return { ...type, ...more };
  return Object.keys(more).length === 0 ? type : { type, ...more };
}

/** The table that a reference leads to by its whole key, and the columns in the order of that key. */
function targetOf(
  { schema, table, columns, target }: FoundReference,
  kept: ReadonlyMap<FoundTable, string>,
): { readonly name: string; readonly by: readonly string[] } | undefined {
  const found = [...kept].find(([one]) => one.schema === schema && one.name === table);
  if (found === undefined) return undefined;
  const [{ key }, name] = found;
  const by = key.map((field) => columns[target.indexOf(field)]);
  const isWhole = key.length === target.length && by.every((one) => one !== undefined);
  return isWhole ? { name, by: by as string[] } : undefined;
}

function scalar(value: unknown): string {
  return stringify(value, { lineWidth: 0 }).trim();
}

function flow(value: unknown): string {
  return stringify(value, { collectionStyle: "flow", lineWidth: 0, flowCollectionPadding: true }).trim();
}

function oneLine(text: string): string {
  return text.replaceAll(/\s+/g, " ");
}
