import { asDecimal } from "./comparable.js";
import { compileTest } from "./evaluate.js";
import {
  and,
  type Expression,
  isMade,
  isOfAnyRecord,
  not,
  type Operand,
  operandsOf,
  or,
  type SessionOperand,
} from "./expression.js";
import type { Reading } from "./read.js";
import { shiftValue } from "./shift.js";
import { False, type Truth, Unknown } from "./truth.js";

/** Decides a test that is the same for every record; undefined while it is open. */
export type Decided = (test: Expression) => Truth | undefined;

/** Gives the constant for an operand that the session knows, or the operand itself while it is open. */
export type Known = (operand: SessionOperand) => Operand;

/** Whether the current user holds a role or is in a group. */
export type Member = (name: string) => Expression;

const open: Member = (name) => ({ kind: "open", name });

/**
 * Partial evaluation: puts the session's constants in, decides what then no longer depends on the record, and
 * simplifies what is left. Sound in three-valued logic: nothing is folded that a null could change.
 */
export function specialize(expression: Expression, known: Known, decided?: Decided, member: Member = open): Expression {
  const operand = (one: Operand): Operand => specializeOperand(one, known);
  switch (expression.kind) {
    case "truth":
      return expression;
    case "open":
      return member(expression.name);
    case "person": {
      const key = operand(expression.key);
      if (key.kind === "constant" && key.value === null) return { kind: "truth", value: Unknown };
      const condition = specialize(expression.condition, known, decided);
      const here = expression.here && specialize(expression.here, known, decided);
      return { ...expression, key, condition, here };
    }
    case "line":
      return { ...expression, condition: specialize(expression.condition, known, decided) };
    case "may": {
      const key = operand(expression.key);
      if (key.kind === "constant" && key.value === null) return { kind: "truth", value: Unknown };
      return decide({ ...expression, key }, decided);
    }
    case "and":
      return and(expression.terms.map((term) => specialize(term, known, decided, member)));
    case "or":
      return or(expression.terms.map((term) => specialize(term, known, decided, member)));
    case "not":
      return not(specialize(expression.term, known, decided, member));
    case "compare":
      return fold({ ...expression, left: operand(expression.left), right: operand(expression.right) });
    case "in":
      return fold({ ...expression, operand: operand(expression.operand), items: expression.items.map(operand) });
    case "in-list":
      return fold({ ...expression, operand: operand(expression.operand), list: operand(expression.list) });
    case "match":
      return fold({ ...expression, operand: operand(expression.operand), pattern: operand(expression.pattern) });
    case "is-null":
      return fold({ ...expression, operand: operand(expression.operand) });
    case "belongs":
    case "above": {
      const subject = operand(expression.subject);
      // Nobody owns anything and nobody is above anybody; who holds no role on any record holds it on none.
      const isNobody = subject.kind === "constant" && (subject.value === null || subject.value === "[]");
      return isNobody ? { kind: "truth", value: False } : { ...expression, subject };
    }
    case "exists": {
      const { link } = expression;
      const condition = specialize(expression.condition, known, decided, member);
      // Of no record can be said what is false of every one.
      if (condition.kind === "truth" && condition.value === False) return condition;
      return decide({ ...expression, condition, link: link && { ...link, value: operand(link.value) } }, decided);
    }
    default:
      return expression satisfies never;
  }
}

function decide(test: Extract<Expression, { kind: "exists" | "may" }>, decided: Decided | undefined): Expression {
  const value = isOfAnyRecord(test) ? decided?.(test) : undefined;
  return value === undefined ? test : { kind: "truth", value };
}

/** The same for one operand. */
export function specializeOperand(operand: Operand, known: Known): Operand {
  switch (operand.kind) {
    case "me":
    case "held":
    case "request":
    case "today":
      return known(operand);
    case "shift": {
      const inner = specializeOperand(operand.operand, known);
      if (inner.kind !== "constant") return { ...operand, operand: inner };
      return { ...inner, value: inner.value === null ? null : shiftValue(inner.value as string, operand) };
    }
    case "as-decimal":
      return asDecimal(specializeOperand(operand.operand, known));
    case "as-address": {
      const inner = specializeOperand(operand.operand, known);
      if (inner.kind !== "constant") return { ...operand, operand: inner };
      return { kind: "constant", type: operand.type, value: inner.value === null ? null : String(inner.value) };
    }
    case "constant":
    case "unreadable":
    case "field":
    case "outer":
    case "around":
      return operand;
    default:
      return operand satisfies never;
  }
}

const nothing: Reading = { source: undefined, badData: () => {}, fault: () => {} };

/** A comparison is decided once all its operands are; one with null in it is unknown at once. */
function fold(expression: Expression): Expression {
  const operands = operandsOf(expression);
  if (operands.every(isFixed)) return { kind: "truth", value: compileTest(expression)({}, nothing) };
  if (expression.kind === "compare" || expression.kind === "match" || expression.kind === "in-list") {
    if (operands.some((one) => one.kind === "constant" && one.value === null)) return { kind: "truth", value: Unknown };
  }
  return expression;
}

function isFixed(operand: Operand): boolean {
  if (isMade(operand)) return isFixed(operand.operand);
  return operand.kind === "constant" || operand.kind === "unreadable";
}
