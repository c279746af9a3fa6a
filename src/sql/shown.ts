import { type Field, lastOf, pathOf, writtenOut } from "../schema/schema.js";
import { conditionOf } from "../session/conditions.js";
import type { Gate } from "../session/gate.js";
import type { ShowAction } from "../session/mask.js";
import type { TableGates } from "../session/table-gates.js";
import { conditionFormula } from "./condition.js";
import { type Formula, formula, print, test } from "./formula.js";
import { anyOf, type Fragment } from "./fragment.js";
import { inside, type Scope } from "./scope.js";
import { Joins } from "./value.js";

/** Whether a field of the scope's record is shown: true exactly where the decision about it permits. */
export function shownFormula(plan: TableGates, action: ShowAction, field: Field, scope: Scope): Formula {
  if (plan.table.key.includes(field)) return conditionFormula(conditionOf(plan, action), scope);
  const needed: Formula[] = [];
  for (const each of action === "export" ? (["view", "export"] as const) : [action]) {
    const { gates } = each === "export" ? plan.fields(each) : plan.seen(each);
    needed.push(conditionFormula((gates[field.index] as Gate).condition(), scope));
    if (field.lookup !== undefined) needed.push(sourceShown(plan, each, field, scope));
  }
  for (const part of field.by ?? []) needed.push(shownFormula(plan, action, part, scope));
  return formula("and", needed);
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
  const shown = shownFormula(plan.other(source.table), action, source, inside(scope, joins.depth, record, undefined));
  const found = joins.exists(print(shown));
  return formula("and", [sourceShown(plan, action, through, scope), test(anyOf([isNull, found]))]);
}

/** The value of a lookup, null where its reference leads nowhere; undefined where it ends in a made reference. */
export function lookupColumn(field: Field, scope: Scope): Fragment | undefined {
  const path = pathOf(writtenOut(field));
  if (lastOf(path).by !== undefined) return undefined;
  const joins = new Joins(scope);
  const [part] = joins.path(scope.record, path);
  return part === undefined ? undefined : joins.select(part.stored);
}
