import { type Declared, declare } from "../schema/declare.js";
import { limits } from "../schema/limits.js";
import { type Locate, PortierError, type Problem } from "../schema/problems.js";
import { checkName, type Part, readMapping, readText } from "../schema/reader.js";
import { Problems, problem } from "../schema/report.js";
import type { Table } from "../schema/schema.js";
import { readRange } from "./cells.js";
import type { Group } from "./groups.js";
import { reportMayCircles } from "./may-circles.js";
import { linesAmong } from "./membership.js";
import type { CellRange } from "./ranges.js";
import { readGroups } from "./read-groups.js";
import { readRules } from "./read-rules.js";
import type { Rule } from "./rule.js";
import { makeRuleset, type Ruleset } from "./ruleset.js";
import { readScreens, type Screen } from "./screens.js";
import type { StoredMembers } from "./stored-members.js";

/**
 * Checks a document and resolves all its names.
 *
 * @throws PortierError with every problem of the document; nothing is half-loaded.
 */
export function compileRules(document: unknown, locate?: Locate): Ruleset {
  const problems = new Problems();
  const root: Part = { value: document, path: [], problems };
  const declared = declare(root);
  const { schema } = declared;
  const { groups, members } = readGroups(declared.groups, schema, problems);
  const ranges = new Map<string, Map<string, CellRange>>();
  for (const [name, part] of declared.ranges) {
    const table = schema.tables.get(name);
    if (table !== undefined) ranges.set(name, readNamedRanges(part, table));
  }
  const rules = readAllRules(declared, members, ranges);
  const screens = readScreens(declared.screens, schema, groups);
  if (rules.length > limits.rules) problems.add("too-large", { what: "rules", limit: limits.rules });
  if (problems.list.length === 0) reportMayCircles(rules, schema.tables, problems);
  const found = withoutEchoes(problems.list, declared.broken);
  if (found.length > 0) throw new PortierError(sortByPlace(found, locate));

  const lines = linesAmong(namesAsked(rules, groups, screens), { schema, members });
  return makeRuleset({ schema, groups, screens, rules, lines, ranges });
}

function readAllRules(
  { schema, rules: parts, everyTable }: Declared,
  members: StoredMembers,
  ranges: ReadonlyMap<string, ReadonlyMap<string, CellRange>>,
): Rule[] {
  const rules: Rule[] = [];
  const { groups } = members;
  for (const [name, table] of schema.tables) {
    const scope = { schema, table, groups, members, ranges: ranges.get(name) ?? new Map<string, CellRange>() };
    const own = parts.get(name);
    if (own !== undefined) rules.push(...readRules(own, { ...scope, isEveryTable: false }));
    if (everyTable !== undefined) rules.push(...readRules(everyTable, { ...scope, isEveryTable: true }));
  }
  return rules;
}

/** The roles, groups and lines that are named as whom something is for. */
function* namesAsked(
  rules: readonly Rule[],
  groups: ReadonlyMap<string, Group>,
  screens: ReadonlyMap<string, Screen>,
): Iterable<string> {
  for (const { to, home } of screens.values()) yield* [...to, ...home];
  const listed = [
    ...rules.flatMap(({ to, except }) => [...to, ...except]),
    ...[...groups.values()].flatMap(({ members, without }) => [...members, ...without]),
  ];
  for (const one of listed) if (one.kind === "member") yield one.name;
}

function readNamedRanges(part: Part, table: Table): Map<string, CellRange> {
  const named = new Map<string, CellRange>();
  if (table.grid === undefined) {
    part.problems.add("no-grid", { table: table.name }, part.path);
    return named;
  }
  for (const [name, entry] of readMapping(part, `ranges of "${table.name}"`)) {
    if (!checkName(entry, "a range", name)) continue;
    const text = readText(entry, `range "${name}"`);
    const range = text === undefined ? undefined : readRange(entry, text, table.grid, []);
    if (range !== undefined) named.set(name, range);
  }
  return named;
}

/**
 * A field that could not be read has its own problem; that rules then do not find it is the same problem again. And a
 * mistake in a rule of every table is one mistake, unless it is about one of the tables.
 */
function withoutEchoes(list: readonly Problem[], broken: ReadonlyMap<string, ReadonlySet<string>>): readonly Problem[] {
  const echoes = new Set<string>();
  for (const [table, names] of broken) {
    for (const name of names) echoes.add(problem("unknown-field", { table, name, candidates: [] }).message);
  }
  const said = new Set<string>();
  return list.filter((one) => {
    if (one.code === "unknown-field" && echoes.has(one.message)) return false;
    const line = JSON.stringify([one.code, one.message, one.path, one.offset]);
    const isNew = !said.has(line);
    said.add(line);
    return isNew;
  });
}

/** In the order of the file, where there is one. */
function sortByPlace(problems: readonly Problem[], locate: Locate | undefined): Problem[] {
  const listed = problems.slice(0, limits.problems).map((one) => ({ ...one, ...locate?.(one.path, one.offset) }));
  return listed.sort((a, b) => (a.line ?? 0) - (b.line ?? 0) || (a.column ?? 0) - (b.column ?? 0));
}
