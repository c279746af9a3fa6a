import { type Expression, visitTests } from "../conditions/expression.js";
import { reportCircle } from "../schema/circles.js";
import type { Problems } from "../schema/problems.js";
import type { Part } from "../schema/reader.js";
import { actionOf } from "./actions.js";
import type { Rule } from "./rule.js";

/**
 * Names a circle of `may` between pairs of action and table. Besides the conditions, what an answer needs leads on: a
 * known record (edit, delete, custom actions), view for list, and the action that a gate stands on.
 */
export function reportMayCircles(rules: readonly Rule[], problems: Problems): void {
  const asking = new Map(
    rules.map((rule) => [rule, [rule.where, rule.becomes].flatMap((one) => (one ? mays(one) : []))]),
  );
  if ([...asking.values()].every((found) => found.length === 0)) return;
  const arrows = new Map<string, { name: string; part: Part }[]>();
  const add = (from: string, to: string, rule: Rule) => {
    const list = arrows.get(from) ?? [];
    arrows.set(from, list);
    list.push({ name: to, part: { value: undefined, path: rule.path, problems } });
  };
  for (const rule of rules) {
    const asked = asking.get(rule) ?? [];
    for (const name of rule.extents.keys()) {
      const from = pair(name, rule.table.name);
      for (const may of asked) add(from, pair(may.action, may.target), rule);
      const action = actionOf(rule.table, name);
      if (action?.on !== undefined) add(from, pair(action.on, rule.table.name), rule);
      if (action?.needsKnown === true) add(from, pair("list", rule.table.name), rule);
      // What may be viewed may be listed, so whoever asks for list asks for view.
      add(pair("list", rule.table.name), pair("view", rule.table.name), rule);
    }
  }
  reportCircle(arrows.keys(), (name) => arrows.get(name) ?? [], problems, "may");
}

const pair = (action: string, table: string) => `${action} ${table}`;

function mays(expression: Expression): Extract<Expression, { kind: "may" }>[] {
  const found: Extract<Expression, { kind: "may" }>[] = [];
  visitTests(expression, (test) => {
    if (test.kind === "may") found.push(test);
    else if (test.kind === "exists") found.push(...mays(test.condition));
  });
  return found;
}
