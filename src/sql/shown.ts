import { type ActionTree, actionTree, type ShowAction } from "../rules/action-tree.js";
import { type Field, lastOf, pathOf, writtenOut } from "../schema/schema.js";
import { conditionOf } from "../session/conditions.js";
import type { TableGates } from "../session/table-gates.js";
import { conditionFormula } from "./condition.js";
import { type Formula, formula, print, test } from "./formula.js";
import { anyOf, type Fragment } from "./fragment.js";
import { inside, type Scope } from "./scope.js";
import { Joins } from "./value.js";

/** Whether a field of the scope's record, which is seen, is shown: true exactly where the decision about it permits. */
export function shownFormula(gates: TableGates, action: ShowAction, field: Field, scope: Scope): Formula {
  return treeFormula(gates, actionTree(gates.table, action, field), scope, true);
}

/** `isSeen`: the scope's record is one that is seen anyway. */
function treeFormula(gates: TableGates, tree: ActionTree, scope: Scope, isSeen: boolean): Formula {
  switch (tree.kind) {
    case "all":
      return formula(
        "and",
        tree.parts.map((part) => treeFormula(gates, part, scope, isSeen)),
      );
    case "source":
      return formula("and", [
        ...(isSeen ? [] : [treeFormula(gates, tree.record, scope, false)]),
        sourceShown(gates, tree.action, tree.field, scope),
      ]);
    default:
      return conditionFormula(conditionOf(gates, tree), scope);
  }
}

/**
 * Whether what a lookup leads to may be shown: the reference is null, or the source record is there and shows the field.
 * A lookup through another one needs that one's source as well.
 */
function sourceShown(plan: TableGates, action: ShowAction, field: Field, scope: Scope): Formula {
  if (field.lookup === undefined) return formula("and", []);
  const { through, field: source } = field.lookup;
  const path = pathOf(writtenOut(through));
  const missing = new Joins(scope);
  const isNull = missing.isNull(missing.path(scope.record, path));
  const joins = new Joins(scope);
  const record = joins.follow(scope.record, path);
  const gates = plan.other(source.table);
  const there = inside(scope, joins.depth, record, undefined);
  const shown = treeFormula(gates, actionTree(gates.table, action, source), there, false);
  const found = joins.exists(print(shown));
  return formula("and", [sourceShown(plan, action, through, scope), test(anyOf([isNull, found]))]);
}

/** The value of a lookup, null where its reference leads nowhere; undefined where it ends in a composite reference. */
export function lookupColumn(field: Field, scope: Scope): Fragment | undefined {
  const path = pathOf(writtenOut(field));
  if (lastOf(path).by !== undefined) return undefined;
  const joins = new Joins(scope);
  const [part] = joins.path(scope.record, path);
  return part === undefined ? undefined : joins.select(part.stored);
}
