import { always, type Expression, not } from "../../conditions/expression.js";
import type { Field } from "../../schema/schema.js";
import type { PlacedStep } from "../../session/gate.js";
import { isAmong, isBelowRows } from "../../session/grid-gate.js";
import { conditionFormula } from "../condition.js";
import { type Formula, formula, isFixed, print, test } from "../formula.js";
import { sql } from "../fragment.js";
import type { Scope } from "../scope.js";

/** The records that a change is judged on, as a statement has them. */
export interface Change {
  /** Undefined for a new record. */
  readonly before: Scope | undefined;
  /** Undefined for a record that goes. */
  readonly after: Scope | undefined;
}

/**
 * Whether a step of a rule applies to a change, as the gate's own judging in memory says it: a permit where it is met for certain, a
 * block or a confirmation unless it is not for certain.
 */
export function appliesTo(placed: PlacedStep, { before, after }: Change, position: Field | undefined): Formula {
  if (before !== undefined && after !== undefined) return appliesToEdit(placed, before, after, position);
  const record = before ?? after;
  if (record === undefined) return formula("or", []);
  const { step } = placed;
  const test = step.phase === "permit" ? isTrue(step.before, record) : isNotFalse(step.before, record);
  return formula("and", [isIn(placed, record, position), test]);
}

function appliesToEdit(placed: PlacedStep, before: Scope, after: Scope, position: Field | undefined): Formula {
  const { step } = placed;
  const stays = isIn(placed, before, position);
  const arrives = isIn(placed, after, position);
  const later = step.after ?? always;
  if (step.phase === "permit") {
    return formula("and", [stays, arrives, isTrue(step.before, before), isTrue(later, after)]);
  }
  const onEdit = step.alsoAfter
    ? formula("and", [
        isNotFalse(step.who, before),
        formula("or", [isNotFalse(step.where, before), isNotFalse(step.where, after)]),
      ])
    : formula("and", [isNotFalse(step.before, before), isNotFalse(later, after)]);
  if (placed.rows === undefined || position === undefined) return onEdit;
  const onTheWayIn = formula("and", [
    isNotFalse(step.who, before),
    isNotFalse(step.where, after),
    isNotFalse(later, after),
  ]);
  const stayed = formula("and", [stays, onEdit]);
  if (!step.isCrossing) return formula("or", [stayed, formula("and", [arrives, isNot(stays), onTheWayIn])]);
  const isPlaced = formula("and", [isNot(isUnplaced(position, before)), isNot(isUnplaced(position, after))]);
  const within = formula("and", [stays, arrives, isPlaced]);
  return formula("and", [isNot(within), formula("or", [stayed, formula("and", [arrives, onTheWayIn])])]);
}

/** Whether a record's row is among those of a step. A place that is not known is held, and given away by no permit. */
function isIn({ step, rows }: PlacedStep, record: Scope, position: Field | undefined): Formula {
  if (rows === undefined || position === undefined) return formula("and", []);
  const among = isTrue(isAmong(position, rows), record);
  return step.phase === "permit" ? among : formula("or", [among, isUnplaced(position, record)]);
}

function isUnplaced(position: Field, record: Scope): Formula {
  const isNull: Expression = { kind: "is-null", operand: { kind: "field", type: position.type, path: [position] } };
  return formula("or", [isTrue(isNull, record), isTrue(isBelowRows(position), record)]);
}

function isTrue(expression: Expression, record: Scope): Formula {
  return conditionFormula(expression, record);
}

function isNotFalse(expression: Expression, record: Scope): Formula {
  return isNot(isTrue(not(expression), record));
}

export function isNot(one: Formula): Formula {
  if (one.kind !== "test" && one.terms.length === 0) return formula(one.kind === "and" ? "or" : "and", []);
  return test(sql`(${print(one)}) is not true`, isFixed(one));
}
