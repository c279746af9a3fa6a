import { stringify } from "yaml";
import { type DeclaredTable, declareFound, type FieldEntry } from "./declare-found.js";
import type { FoundDatabase, FoundTable, LeftOut } from "./found.js";
import { type Guess, guessOwner, guessPeople, guessSensitive } from "./guesses.js";

/** A document as text, and what of the database is not in it. */
export interface Written {
  readonly text: string;
  /** What was found, and how much of it the document declares. */
  readonly counts: Readonly<Record<"tables" | "columns" | "foreign keys", Count>>;
  /** In the order of the tables. */
  readonly leftOut: readonly string[];
  /** What is there besides tables. */
  readonly besides: readonly string[];
}

interface Count {
  readonly found: number;
  readonly declared: number;
}

/**
 * Writes a document without rules: nothing is permitted yet. What cannot be known for certain (who the people are, who
 * owns a record, what is sensitive) stands in comments, to be looked at and put in.
 */
export function writeDocument({ tables: found, besides }: FoundDatabase, from: string): Written {
  const { tables, leftOut } = declareFound(found);
  const people = guessPeople(tables);
  const lines = [`# Read from ${from}. No rule yet: nobody may do anything.`, "portier: 1", ""];
  if (people !== undefined) {
    lines.push(
      `# A guess at the people: ${oneLine(people.reason)}. Check it before you use it:`,
      `# people: ${flow(people.value)}`,
      "",
    );
  }
  const blocks = tables.map((table) => writeTable(table, people && guessOwner(table, tables, people.value.table)));
  lines.push(blocks.length === 0 ? "tables: {}" : `tables:\n${blocks.join("\n\n")}`);
  const sum = (count: (table: FoundTable) => number) => found.reduce((all, table) => all + count(table), 0);
  const out = (kind: LeftOut["kind"]) => leftOut.filter((one) => one.kind === kind).length;
  // What belongs to a table that is left out goes with it.
  const inTables = (count: (table: FoundTable) => number) => tables.reduce((all, table) => all + count(table.found), 0);
  const count = (of: (table: FoundTable) => number, kind: LeftOut["kind"]) => ({
    found: sum(of),
    declared: inTables(of) - out(kind),
  });
  return {
    text: `${lines.join("\n")}\n`,
    counts: {
      tables: { found: found.length, declared: tables.length },
      columns: count(({ columns }) => columns.length, "column"),
      "foreign keys": count(({ references }) => references.length, "foreign key"),
    },
    leftOut: leftOut.map(({ sentence }) => sentence),
    besides: besides.map(({ sentence }) => sentence),
  };
}

function writeTable(
  { name, source, key, keyRemark, entries }: DeclaredTable,
  owner: Guess<string> | undefined,
): string {
  const lines = [`  ${scalar(name)}:`];
  if (source !== undefined) lines.push(`    source: ${scalar(source)}`);
  const said = keyRemark === undefined ? "" : `   # ${oneLine(keyRemark)}`;
  lines.push(`    key: ${typeof key === "string" ? scalar(key) : flow(key)}${said}`);
  if (owner !== undefined) lines.push(`    # owner: ${scalar(owner.value)}   # a guess: ${oneLine(owner.reason)}`);
  return [...lines, "    fields:", ...entries.map(writeField)].join("\n");
}

function writeField({ name, field, remark }: FieldEntry): string {
  if (field === undefined) return `      # ${oneLine(name)}: ${oneLine(remark ?? "left out")}`;
  const guess = guessSensitive(name);
  const remarks = [remark, guess && `sensitive: true? a guess: it ${guess}`];
  const said = remarks.filter((one) => one !== undefined).join("; ");
  return `      ${scalar(name)}: ${flow(field)}${said === "" ? "" : `   # ${oneLine(said)}`}`;
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
