import { type ActionTree, knownTree, type TreeWay } from "../rules/action-tree.js";
import { type Decision, notFound, notPermitted, withConfirmations } from "./decision.js";
import type { Decide } from "./gate.js";
import { lookupTest } from "./lookups.js";
import { distinctWays, type TableGates } from "./table-gates.js";
import { treeReach } from "./table-reach.js";

/** The decision that a tree comes to, ready to be called for every record. */
export function compileDecision(gates: TableGates, tree: ActionTree): Decide {
  switch (tree.kind) {
    case "gate": {
      const gate = gates.gate(tree);
      return tree.isTried ? gate.attempt : gate.decide;
    }
    case "all":
      return tree.parts.map((part) => compileDecision(gates, part)).reduce(both);
    case "any":
      return decideAny(gates, tree.ways);
    case "known":
      return ifKnown(gates, compileDecision(gates, tree.next));
    case "made": {
      const act = compileDecision(gates, tree.act);
      const next = compileDecision(gates, tree.next);
      return (row, reading) => {
        const made = act(row, reading);
        return made.permitted ? next(row, reading) : made;
      };
    }
    case "source": {
      const record = compileDecision(gates, tree.record);
      const sees = lookupTest(gates, tree.action, tree.field);
      return (row, reading) => (record(row, reading).permitted && sees(row, reading) ? shownThere : notPermitted);
    }
    default:
      return tree satisfies never;
  }
}

/** What a lookup leads to is shown. That alone permits nothing: the rule that does is another one. */
const shownThere: Decision = Object.freeze({ permitted: true, reason: "permitted" });

function ifKnown(gates: TableGates, decide: Decide): Decide {
  if (isAlwaysKnown(gates)) return decide;
  const { knows } = gates;
  return (row, reading) => (knows(row, reading) ? decide(row, reading) : notFound);
}

function isAlwaysKnown(gates: TableGates): boolean {
  return treeReach(gates, knownTree(gates.table)) === "all";
}

/** Both must permit; the confirmations of both are asked. */
function both(first: Decide, second: Decide): Decide {
  return (row, reading) => {
    const one = first(row, reading);
    if (!one.permitted) return one;
    const other = second(row, reading);
    if (other === shownThere) return one;
    if (!other.permitted) return other;
    const joined = withConfirmations(other, one.confirm);
    return one.tentative === true && joined.tentative !== true ? { ...joined, tentative: true } : joined;
  };
}

/**
 * Whether any of the ways lets through; one that does for certain goes before one that does tentatively. A refusal
 * names a rule only when that rule stopped what another would have permitted. Where one cannot be decided, the others are
 * asked; that none lets through is then not certain, and a fault.
 */
function decideAny(gates: TableGates, ways: readonly TreeWay[]): Decide {
  const asked = distinctWays(gates, ways).map(({ gate, tree }) => ({
    gate: gates.gate(gate),
    decide: compileDecision(gates, tree),
  }));
  const decide: Decide = (row, reading) => {
    let best: Decision = notPermitted;
    let failures: unknown[] | undefined;
    for (let i = 0; i < asked.length; i++) {
      const way = asked[i] as (typeof asked)[number];
      try {
        const decision = way.decide(row, reading);
        if (decision.permitted && !decision.tentative) return decision;
        if (decision.permitted) best = decision;
        else if (!best.permitted && best.rule === undefined && way.gate.wouldPermit(row, reading)) best = decision;
      } catch (error) {
        failures ??= [];
        failures.push(error);
      }
    }
    if (!best.permitted && failures !== undefined) throw failures[0];
    return best;
  };
  if (!ways.some(({ gate }) => gate.isTried)) return decide;
  // What is to be confirmed belongs to a field; asked without one, nothing is changed yet.
  return (row, reading) => {
    const decision = decide(row, reading);
    return decision.confirm === undefined ? decision : withoutConfirmations(decision);
  };
}

function withoutConfirmations({ confirm: _, ...decision }: Decision): Decision {
  return decision;
}
