import { checkName, type Part, readIgnore, readMapping, readShape, readText, readTexts } from "../schema/reader.js";
import type { Field, IgnoredWarnings, Schema, Table } from "../schema/schema.js";
import { type ActionName, actionNamesOf, actionOf } from "./actions.js";
import { readMemberName } from "./who.js";

/** A page, or a part of one: whom it is shown follows from what the rules permit. */
export interface Screen {
  readonly name: string;
  /** What it is for: all of it must be permitted on some record. Empty for a page that shows no table. */
  readonly needs: readonly ScreenNeed[];
  /** The roles, groups, lines, `signed-in` or `anyone` that alone are shown it; empty: whoever may do what it needs. */
  readonly to: readonly string[];
  /** The screen that it is a part of. */
  readonly within: string | undefined;
  /** The roles and groups that land here after signing in. */
  readonly home: readonly string[];
  /** What it is for, for reports. */
  readonly note: string | undefined;
  readonly ignore: IgnoredWarnings;
}

export interface ScreenNeed {
  readonly table: Table;
  readonly action: ActionName;
  readonly field: Field | undefined;
  /** As written: `objects.edit.label`. */
  readonly text: string;
}

/** Reads `screens`. */
export function readScreens(
  part: Part | undefined,
  schema: Schema,
  groups: ReadonlyMap<string, unknown>,
): Map<string, Screen> {
  const screens = new Map<string, Screen>();
  if (part === undefined) return screens;
  const entries = readMapping(part, "screens");
  for (const [name, entry] of entries) {
    if (!checkName(entry, "a screen", name)) continue;
    const what = `screen "${name}"`;
    const shape = readShape(entry, what, ["needs", "to", "in", "home", "note", "ignore"]);
    const needs = shape.get("needs");
    const to = readNames(shape.get("to"), `to of ${what}`, schema, groups, ["anyone", "signed-in"]);
    if (needs === undefined && !shape.has("to")) {
      entry.problems.add("missing-key", { what, key: 'needs" or "to' }, entry.path);
    }
    if (needs !== undefined && Array.isArray(needs.value) && needs.value.length === 0) {
      needs.problems.add("wrong-shape", { what: `needs of ${what}`, expected: "at least one", found: [] }, needs.path);
    }
    const within = shape.get("in");
    const other = readText(within, `in of ${what}`);
    if (within !== undefined && other !== undefined && !entries.has(other)) {
      entry.problems.add("unknown-screen", { name: other, candidates: entries.keys() }, within.path);
    }
    screens.set(name, {
      name,
      needs: readTexts(needs, `needs of ${what}`).flatMap((one) => readNeed(one, schema) ?? []),
      to,
      within: other,
      home: readNames(shape.get("home"), `home of ${what}`, schema, groups),
      note: readText(shape.get("note"), "note"),
      ignore: readIgnore(shape.get("ignore")),
    });
  }
  return screens;
}

function readNeed(part: Part, { tables }: Schema): ScreenNeed | undefined {
  const text = part.value as string;
  const [tableName = "", action, fieldName, ...more] = text.split(".");
  if (action === undefined || more.length > 0) {
    part.problems.add("bad-need", { found: text }, part.path);
    return undefined;
  }
  const table = tables.get(tableName);
  if (table === undefined) {
    part.problems.add("unknown-table", { name: tableName, candidates: tables.keys() }, part.path);
    return undefined;
  }
  if (actionOf(table, action) === undefined) {
    const facts = { table: tableName, name: action, candidates: actionNamesOf(table) };
    part.problems.add("unknown-action", facts, part.path);
    return undefined;
  }
  const field = fieldName === undefined ? undefined : table.byName.get(fieldName);
  if (fieldName !== undefined && field === undefined) {
    const facts = { table: tableName, name: fieldName, candidates: table.byName.keys() };
    part.problems.add("unknown-field", facts, part.path);
    return undefined;
  }
  return { table, action, field, text };
}

function readNames(
  part: Part | undefined,
  what: string,
  schema: Schema,
  groups: ReadonlyMap<string, unknown>,
  words: readonly string[] = [],
): string[] {
  const names: string[] = [];
  for (const entry of readTexts(part, what)) {
    const name = entry.value as string;
    // A scoped role is enough on any record: a page is about none.
    const isPlain = words.includes(name) || schema.roles.get(name)?.scope !== undefined;
    const known = isPlain ? name : readMemberName(entry, name, schema, new Set(groups.keys()), words);
    if (known !== undefined) names.push(known);
  }
  return names;
}
