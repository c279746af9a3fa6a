import { type Expression, visitTests } from "../conditions/expression.js";
import { reportCircle } from "../schema/circles.js";
import type { Part } from "../schema/reader.js";
import type { Problems } from "../schema/report.js";
import type { Table } from "../schema/schema.js";
import { type ActionName, actionOf } from "./actions.js";
import type { Rule } from "./rule.js";

type May = Extract<Expression, { kind: "may" }>;

/**
 * Names a circle of `may` between pairs of action and table. Besides the conditions, what an answer needs leads on,
 * whether or not there is a rule for it: a known record (edit, delete, custom actions), view for list, and the action
 * that a gate stands on.
 */
export function reportMayCircles(rules: readonly Rule[], tables: ReadonlyMap<string, Table>, problems: Problems): void {
  const asking = new Map(rules.map((rule) => [rule, maysOf(rule)]));
  if ([...asking.values()].every((found) => found.length === 0)) return;
  const arrows = new Map<string, { name: string; part: Part }[]>();
  const add = (from: string, to: string, rule: Rule) => {
    const list = arrows.get(from) ?? [];
    arrows.set(from, list);
    list.push({ name: to, part: { value: undefined, path: rule.path, problems } });
  };
  const addNeeds = (action: ActionName, name: string, rule: Rule) => {
    const table = tables.get(name);
    const { on, needsKnown } = (table && actionOf(table, action)) ?? {};
    if (on !== undefined) add(pair(action, name), pair(on, name), rule);
    if (needsKnown === true) add(pair(action, name), pair("list", name), rule);
    // What may be viewed may be listed, so whoever asks for list asks for view.
    add(pair("list", name), pair("view", name), rule);
  };
  for (const rule of rules) {
    const asked = asking.get(rule) ?? [];
    for (const may of asked) addNeeds(may.action, may.target, rule);
    for (const action of rule.extents.keys()) {
      addNeeds(action, rule.table.name, rule);
      for (const may of asked) add(pair(action, rule.table.name), pair(may.action, may.target), rule);
    }
  }
  reportCircle(arrows.keys(), (name) => arrows.get(name) ?? [], problems, "may");
}

const pair = (action: string, table: string) => `${action} ${table}`;

function maysOf({ where, becomes }: Rule): May[] {
  return [where, becomes].flatMap((condition) => (condition === undefined ? [] : mays(condition)));
}

function mays(expression: Expression): May[] {
  const found: May[] = [];
  visitTests(expression, (test) => {
    if (test.kind === "may") found.push(test);
    else if (test.kind === "exists") found.push(...mays(test.condition));
  });
  return found;
}
