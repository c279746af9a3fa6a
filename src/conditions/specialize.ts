import { compileTest, type Reading } from "./evaluate.js";
import { and, type Expression, not, type Operand, or, type SessionOperand } from "./expression.js";

/** Gives the constant for an operand that the session knows, or the operand itself while it is open. */
export type Known = (operand: SessionOperand) => Operand;

/**
 * Partial evaluation: puts the session's constants in, decides what then no longer depends on the record, and
 * simplifies what is left. Sound in three-valued logic: nothing is folded that a null could change.
 */
export function specialize(expression: Expression, known: Known): Expression {
  const operand = (one: Operand): Operand => specializeOperand(one, known);
  switch (expression.kind) {
    case "truth":
      return expression;
    case "and":
      return and(expression.terms.map((term) => specialize(term, known)));
    case "or":
      return or(expression.terms.map((term) => specialize(term, known)));
    case "not":
      return not(specialize(expression.term, known));
    case "compare":
      return fold({ ...expression, left: operand(expression.left), right: operand(expression.right) });
    case "in":
      return fold({ ...expression, operand: operand(expression.operand), items: expression.items.map(operand) });
    case "match":
      return fold({ ...expression, operand: operand(expression.operand), pattern: operand(expression.pattern) });
    case "is-null":
      return fold({ ...expression, operand: operand(expression.operand) });
    case "belongs":
    case "above": {
      const person = operand(expression.person);
      // Nobody owns anything and nobody is above anybody: an anonymous visitor never meets these.
      if (person.kind === "constant" && person.value === null) return { kind: "truth", value: 0 };
      return { ...expression, person };
    }
    default:
      return expression satisfies never;
  }
}

/** The same for one operand. */
export function specializeOperand(operand: Operand, known: Known): Operand {
  switch (operand.kind) {
    case "me":
    case "request":
    case "today":
      return known(operand);
    case "shift":
    case "as-decimal":
      return { ...operand, operand: specializeOperand(operand.operand, known) };
    case "constant":
    case "unreadable":
    case "field":
      return operand;
    default:
      return operand satisfies never;
  }
}

const nothing: Reading = { source: undefined, badData: () => {} };

/** A comparison is decided once all its operands are; one with null or something unreadable in it may be decided sooner. */
function fold(expression: Extract<Expression, { kind: "compare" | "in" | "match" | "is-null" }>): Expression {
  const operands = operandsOf(expression);
  if (operands.every(isFixed)) return { kind: "truth", value: compileTest(expression)({}, nothing) };
  if (expression.kind === "compare" || expression.kind === "match") {
    const lost = operands.some((one) => one.kind === "unreadable" || (one.kind === "constant" && one.value === null));
    if (lost) return { kind: "truth", value: 1 };
  }
  return expression;
}

function operandsOf(
  expression: Extract<Expression, { kind: "compare" | "in" | "match" | "is-null" }>,
): readonly Operand[] {
  switch (expression.kind) {
    case "compare":
      return [expression.left, expression.right];
    case "in":
      return [expression.operand, ...expression.items];
    case "match":
      return [expression.operand, expression.pattern];
    case "is-null":
      return [expression.operand];
    default:
      return expression satisfies never;
  }
}

function isFixed(operand: Operand): boolean {
  if (operand.kind === "shift" || operand.kind === "as-decimal") return isFixed(operand.operand);
  return operand.kind === "constant" || operand.kind === "unreadable";
}
