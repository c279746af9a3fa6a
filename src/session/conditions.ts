import { compileTest, type Judge } from "../conditions/evaluate.js";
import { and, type Expression, or } from "../conditions/expression.js";
import type { Test } from "../conditions/read.js";
import { False, Unknown } from "../conditions/truth.js";
import { type ActionTree, actionTree } from "../rules/action-tree.js";
import type { ActionName } from "../rules/actions.js";
import { distinctWays, type TableGates } from "./table-gates.js";

/**
 * Whether an action is permitted on a record, as a truth value: {@link Bad} where only bad data keeps a yes from being
 * certain. For `may`, which must tell; an action on fields asks for any field.
 */
export function compileTruth(gates: TableGates, action: ActionName): Test {
  const judge: Judge = (asked, table) => compileTruth(gates.other(table), asked);
  const test = compileTest(conditionOf(gates, actionTree(gates.table, action, undefined)), judge);
  return (row, reading) => {
    const truth = test(row, reading);
    return truth === Unknown ? False : truth;
  };
}

/**
 * What a tree decides, as one condition: it is true exactly where the decision permits. For `may`, and for what cannot call
 * the closures of a plan, such as a database. Every "not" stands at a single test.
 *
 * @throws TypeError for a tree that asks what a lookup leads to: that is another record, and no condition on this one.
 */
export function conditionOf(gates: TableGates, tree: ActionTree): Expression {
  switch (tree.kind) {
    case "gate": {
      const gate = gates.gate(tree);
      return tree.isTried ? gate.attemptCondition() : gate.condition();
    }
    case "all":
      return and(tree.parts.map((part) => conditionOf(gates, part)));
    case "any":
      return or(distinctWays(gates, tree.ways).map((way) => conditionOf(gates, way.tree)));
    case "known":
      return and([conditionOf(gates, tree.known), conditionOf(gates, tree.next)]);
    case "made":
      return and([conditionOf(gates, tree.act), conditionOf(gates, tree.next)]);
    case "source":
      throw new TypeError("what a lookup leads to is not a condition on the record");
    default:
      return tree satisfies never;
  }
}
