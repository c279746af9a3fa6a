import { readCondition } from "../conditions/check.js";
import { always, type Expression, never } from "../conditions/expression.js";
import { checkName, type Part, readMapping, readShape, readText } from "../schema/reader.js";
import type { Schema, Table } from "../schema/schema.js";
import { type ActionName, actionNames, actions, isActionName } from "./actions.js";
import { type EffectName, effectNames, effects } from "./effects.js";
import { readExtent } from "./extent.js";
import type { Extent, Rule } from "./rule.js";
import { readWho } from "./who.js";

const ruleKeys = ["to", "except", "where", "becomes", "note", ...effectNames] as const;

/** Reads the rules of one table. A rule with a problem is left out, the problem listed. */
export function readRules(part: Part, schema: Schema, table: Table): Rule[] {
  const rules: Rule[] = [];
  for (const [name, entry] of readMapping(part, `rules of "${table.name}"`)) {
    if (!checkName(entry, "a rule", name)) continue;
    if (!/^[a-z0-9]+(-[a-z0-9]+)*$/.test(name)) {
      const rule = "use small letters, digits and hyphens: labels-are-public";
      part.problems.add("bad-name", { what: "a rule", name, rule }, entry.path);
      continue;
    }
    const rule = readRule(entry, name, schema, table);
    if (rule !== undefined) rules.push(rule);
  }
  return rules;
}

function readRule(part: Part, name: string, schema: Schema, table: Table): Rule | undefined {
  const { problems } = part;
  const before = problems.list.length;
  const address = `${table.name}/${name}`;
  const shape = readShape(part, `rule "${name}"`, ruleKeys);
  const found = effectNames.filter((effect) => shape.has(effect));
  if (found.length > 1) problems.add("several-effects", { rule: name, found }, part.path);
  if (found.length === 0) problems.add("missing-effect", { rule: name, effects: effectNames }, part.path);

  const condition = (key: "where" | "becomes"): Expression | undefined => {
    const value = shape.get(key);
    return value && readWhere(value, `${key} of "${name}"`, schema, table, key === "becomes");
  };
  const where = condition("where") ?? always;
  const becomes = condition("becomes");
  const to = readWho(shape.get("to"), `to of "${name}"`, schema, table);
  const except = readWho(shape.get("except"), `except of "${name}"`, schema, table);
  const note = readText(shape.get("note"), "note");

  const [effectName] = found;
  if (effectName === undefined) return undefined;
  const effect = effects[effectName];
  if (!shape.has("to")) {
    if (effect.needsTo) problems.add("missing-to", { rule: name, effect: effectName }, part.path);
    else to.push({ kind: "anyone", text: "anyone" });
  }
  const extents = readExtents(shape.get(effectName), effectName, table);
  if (becomes !== undefined) checkBecomes(shape.get("becomes"), extents);
  if (problems.list.length > before) return undefined;
  return { address, table, effect, to, except, where, becomes, extents, note };
}

function readWhere(part: Part, what: string, schema: Schema, table: Table, isBecomes: boolean): Expression | undefined {
  if (typeof part.value === "boolean") return part.value ? always : never;
  const text = readText(part, what);
  if (text === undefined) return undefined;
  if (isBecomes && text.trim() === "any") return always;
  return readCondition(text, { schema, table, problems: part.problems, path: part.path });
}

function readExtents(part: Part | undefined, effectName: EffectName, table: Table): Map<ActionName, Extent> {
  const extents = new Map<ActionName, Extent>();
  if (part === undefined) return extents;
  const entries = readMapping(part, effectName);
  if (entries.size === 0 && typeof part.value === "object") {
    part.problems.add("wrong-shape", { what: effectName, expected: "at least one action", found: {} }, part.path);
  }
  for (const [action, entry] of entries) {
    if (!isActionName(action)) {
      part.problems.add("unknown-action", { table: table.name, name: action, candidates: actionNames }, entry.path);
      continue;
    }
    const extent = readExtent(entry, action, effects[effectName], table);
    if (extent !== undefined) extents.set(action, extent);
  }
  return extents;
}

function checkBecomes(part: Part | undefined, extents: ReadonlyMap<ActionName, Extent>): void {
  const without = [...extents.keys()].filter((action) => actions[action].judges === "stored");
  if (part !== undefined && without.length > 0) {
    part.problems.add("misplaced-becomes", { actions: without }, part.path);
  }
}
