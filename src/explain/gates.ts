import { type ActionTree, actionTree, type GateNode, gatesIn, knownTree } from "../rules/action-tree.js";
import type { ActionName } from "../rules/actions.js";
import type { Field } from "../schema/schema.js";
import type { Gates, Opening } from "./missing.js";
import type { TracedRule, TracedRules } from "./traced-rules.js";

/** The ways to a yes, each as the gates that must all open. Asked without a field, any field will do. */
export function waysTo(rules: TracedRules, action: ActionName, field: Field | undefined): Gates[] {
  const ways = waysThrough(rules, actionTree(rules.table, action, field));
  return distinct(ways.filter((gates) => gates.every((openings) => openings.length > 0)));
}

/** Whether a record is known at all: any field of it, lookups aside, is listed or viewed. */
export function knownGate(rules: TracedRules): readonly Opening[] {
  return anyGate(rules, knownTree(rules.table));
}

function waysThrough(rules: TracedRules, tree: ActionTree): Gates[] {
  switch (tree.kind) {
    case "gate":
      return [[gate(rules, tree)]];
    case "all":
      return together(
        tree.parts.map((part) => (part.kind === "any" ? [[anyGate(rules, part)]] : waysThrough(rules, part))),
      );
    case "any":
      return tree.ways.flatMap((way) => waysThrough(rules, way.tree));
    case "known":
      return together([[[knownGate(rules)]], waysThrough(rules, tree.next)]);
    case "made":
      return together([waysThrough(rules, tree.act), waysThrough(rules, tree.next)]);
    case "source":
      // What the other record lacks is said of that one.
      return [[]];
    default:
      return tree satisfies never;
  }
}

/** Each way through the first with each through the next. */
function together(parts: readonly Gates[][]): Gates[] {
  return parts.reduce<Gates[]>((ways, part) => ways.flatMap((way) => part.map((more) => [...way, ...more])), [[]]);
}

/** One gate that any of a tree's opens. */
function anyGate(rules: TracedRules, tree: ActionTree): readonly Opening[] {
  const openings = gatesIn(tree).flatMap((node) => gate(rules, node));
  return distinct(openings.map((one) => [[one]])).flatMap((gates) => gates[0] ?? []);
}

/** A permitted view also permits list, and what is denied for either is not listed. */
function gate(rules: TracedRules, { action, on }: GateNode): readonly Opening[] {
  const own = rules.deciding(action, on);
  return openings(rules, action === "list" ? [...own, ...rules.deciding("view", on)] : own);
}

/** A block that only the new values can meet does not stop a change from being tried. */
function openings(rules: TracedRules, deciding: readonly TracedRule[]): readonly Opening[] {
  const decides = ({ counting: { rule, options } }: TracedRule) =>
    options.judges !== "change" || (rule.becomes === undefined && options.isCrossing !== true);
  const traced = (phase: "block" | "permit") =>
    deciding.filter((one) => one.counting.rule.effect.phase === phase && (phase === "permit" || decides(one)));
  const blocks = traced("block").map((one) => rules.trace(one, undefined));
  return traced("permit").map((one) => ({ permit: rules.trace(one, undefined), blocks }));
}

/** Fields under the same rules are one way. */
function distinct(ways: readonly Gates[]): Gates[] {
  const seen = new Set<string>();
  return ways.filter((gates) => {
    const id = JSON.stringify(
      gates.map((all) => all.map(({ permit, blocks }) => [permit.rule, permit.action, blocks.map((one) => one.rule)])),
    );
    return !seen.has(id) && seen.add(id);
  });
}
