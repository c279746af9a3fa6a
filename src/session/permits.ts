import { type Expression, readsOtherRecords } from "../conditions/expression.js";
import type { Yes } from "../conditions/yes.js";
import { type ActionTree, gatesIn, hasSource } from "../rules/action-tree.js";
import { conditionOf } from "./conditions.js";
import { compileDecision } from "./decide.js";
import type { TableGates } from "./table-gates.js";

/**
 * The yes or no of a tree. Where nothing but the record's own fields has a say, it is one condition, without what its parts say
 * twice; else the decision is made, of a record that must be known only where the rest permits.
 */
export function compilePermits(gates: TableGates, tree: ActionTree): Yes {
  const condition = ownCondition(gates, tree);
  if (condition !== undefined) return gates.yes(condition);
  if (tree.kind !== "known") {
    const decide = compileDecision(gates, tree);
    return (row, reading) => decide(row, reading).permitted;
  }
  const next = compilePermits(gates, tree.next);
  return (row, reading) => next(row, reading) && gates.knows(row, reading);
}

/**
 * What a tree decides, where that follows from the record's own fields alone. Undefined where other records have a say, which
 * can fail and then another way is asked, and where a gate looks up rows of a grid.
 */
export function ownCondition(gates: TableGates, tree: ActionTree): Expression | undefined {
  const isFlat = gatesIn(tree).every((node) => !gates.gate(node).isPlaced);
  if (!isFlat || hasSource(tree)) return undefined;
  const condition = conditionOf(gates, tree);
  return readsOtherRecords(condition) ? undefined : condition;
}
