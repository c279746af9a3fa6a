import { stringify } from "yaml";
import { type DeclaredTable, declareFound, type FieldEntry } from "./declare-found.js";
import type { FoundTable } from "./found.js";
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
  const { tables, leftOut } = declareFound(found);
  const people = guessPeople(tables);
  const lines = [`# Read from ${from}. No rule yet: nobody may do anything.`, "portier: 1", ""];
  if (people !== undefined) {
    lines.push(
      "# A guess at the people table, from names alone. Check it before you use it:",
      `# people: ${flow(people)}`,
      "",
    );
  }
  const blocks = tables.map((table) =>
    writeTable(table, people && guessOwner(table, tables, people.table), people?.table),
  );
  lines.push(blocks.length === 0 ? "tables: {}" : `tables:\n${blocks.join("\n\n")}`);
  const fields = tables.flatMap(({ entries }) => entries.filter(({ field }) => field !== undefined)).length;
  return { text: `${lines.join("\n")}\n`, tables: tables.length, fields, leftOut };
}

function writeTable({ name, source, key, entries }: DeclaredTable, owner: string | undefined, people = ""): string {
  const lines = [`  ${scalar(name)}:`];
  if (source !== undefined) lines.push(`    source: ${scalar(source)}`);
  lines.push(`    key: ${typeof key === "string" ? scalar(key) : flow(key)}`);
  if (owner !== undefined) lines.push(`    # owner: ${scalar(owner)}   # a guess: it leads to ${people}`);
  return [...lines, "    fields:", ...entries.map(writeField)].join("\n");
}

function writeField({ name, field, remark }: FieldEntry): string {
  if (field === undefined) return `      # ${oneLine(name)}: ${oneLine(remark ?? "left out")}`;
  const remarks = [remark, isSensitive(name) ? "sensitive: true? a guess by its name" : undefined];
  const said = remarks.filter((one) => one !== undefined).join("; ");
  return `      ${scalar(name)}: ${flow(field)}${said === "" ? "" : `   # ${said}`}`;
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
