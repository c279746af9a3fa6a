import type { Scalar } from "../schema/scalar.js";
import type { FieldPath } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import type { ComparisonOp, DurationUnit, MatchWord } from "./syntax.js";
import { False, True, type Truth, Unknown } from "./truth.js";

/**
 * A condition with its names resolved and its types checked. `in` stands for the written-out list, `between` has become
 * two comparisons; who entries that depend on the record (`belongs`, `above`) are expressions, too, so that one algebra
 * decides everything.
 */
export type Expression =
  | { readonly kind: "truth"; readonly value: Truth }
  | { readonly kind: "and" | "or"; readonly terms: readonly Expression[] }
  | { readonly kind: "not"; readonly term: Expression }
  | { readonly kind: "compare"; readonly op: ComparisonOp; readonly left: Operand; readonly right: Operand }
  | { readonly kind: "in"; readonly operand: Operand; readonly items: readonly Operand[] }
  | { readonly kind: "match"; readonly how: MatchWord; readonly operand: Operand; readonly pattern: Operand }
  | { readonly kind: "is-null"; readonly operand: Operand }
  /** The person is the one that `path` leads to. False, not unknown, where it leads to nobody. */
  | { readonly kind: "belongs"; readonly path: FieldPath; readonly person: Operand }
  /** The person is above the one that `path` leads to, at any distance along `line`, the people's manager field. */
  | { readonly kind: "above"; readonly path: FieldPath; readonly line: FieldPath; readonly person: Operand };

export type Operand =
  | { readonly kind: "constant"; readonly type: FieldType; readonly value: Scalar | null }
  /** A value that does not fit its type, or a date beyond the calendar: unknown in every condition. */
  | { readonly kind: "unreadable"; readonly type: FieldType }
  | { readonly kind: "field"; readonly type: FieldType; readonly path: FieldPath }
  /** A field of the person who asks; the people's key alone for `me`. */
  | { readonly kind: "me"; readonly type: FieldType; readonly path: FieldPath }
  | { readonly kind: "request"; readonly type: FieldType; readonly name: string }
  | { readonly kind: "today"; readonly type: FieldType }
  | {
      readonly kind: "shift";
      readonly type: FieldType;
      readonly operand: Operand;
      readonly amount: number;
      readonly unit: DurationUnit;
    }
  /** An integer where it meets a decimal. */
  | { readonly kind: "as-decimal"; readonly type: FieldType; readonly operand: Operand };

/** An operand that the session knows: it does not depend on the record. */
export type SessionOperand = Extract<Operand, { readonly kind: "me" | "request" | "today" }>;

export const never: Expression = { kind: "truth", value: False };
export const unknown: Expression = { kind: "truth", value: Unknown };
export const always: Expression = { kind: "truth", value: True };

/** All of them; the empty "and" is true. Flattens, and folds truth values in Kleene's logic. */
export function and(terms: readonly Expression[]): Expression {
  return chain("and", terms, True, False);
}

/** Any of them; the empty "or" is false. */
export function or(terms: readonly Expression[]): Expression {
  return chain("or", terms, False, True);
}

export function not(term: Expression): Expression {
  if (term.kind === "truth") return { kind: "truth", value: (True - term.value) as Truth };
  return term.kind === "not" ? term.term : { kind: "not", term };
}

function chain(kind: "and" | "or", terms: readonly Expression[], neutral: Truth, decisive: Truth): Expression {
  const kept: Expression[] = [];
  let sawUnknown = false;
  for (const term of terms) {
    for (const part of term.kind === kind ? term.terms : [term]) {
      if (part.kind !== "truth") kept.push(part);
      else if (part.value === decisive) return part;
      else if (part.value !== neutral) sawUnknown = true;
    }
  }
  if (sawUnknown) kept.push(unknown);
  const [only] = kept;
  if (only === undefined) return { kind: "truth", value: neutral };
  return kept.length === 1 ? only : { kind, terms: kept };
}

/** Calls `visit` for every operand of an expression, also those inside others. */
export function visitOperands(expression: Expression, visit: (operand: Operand) => void): void {
  const into = (operand: Operand): void => {
    visit(operand);
    if (operand.kind === "shift" || operand.kind === "as-decimal") into(operand.operand);
  };
  switch (expression.kind) {
    case "truth":
      return;
    case "and":
    case "or":
      for (const term of expression.terms) visitOperands(term, visit);
      return;
    case "not":
      visitOperands(expression.term, visit);
      return;
    case "compare":
      into(expression.left);
      into(expression.right);
      return;
    case "in":
      into(expression.operand);
      expression.items.forEach(into);
      return;
    case "match":
      into(expression.operand);
      into(expression.pattern);
      return;
    case "is-null":
      into(expression.operand);
      return;
    case "belongs":
    case "above":
      into(expression.person);
      into({ kind: "field", path: expression.path, type: expression.path[0].type });
      return;
    default:
      expression satisfies never;
  }
}

/** Whether deciding the expression needs records besides the one it is about. */
export function readsOtherRecords(expression: Expression): boolean {
  if (expression.kind === "and" || expression.kind === "or") return expression.terms.some(readsOtherRecords);
  if (expression.kind === "not") return readsOtherRecords(expression.term);
  if (expression.kind === "above") return true;
  let reads = false;
  visitOperands(expression, (operand) => {
    reads ||= operand.kind === "field" && operand.path.length > 1;
  });
  return reads;
}
