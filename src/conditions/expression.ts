import type { Scalar } from "../schema/scalar.js";
import { type Field, type FieldPath, lastOf } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import type { ComparisonOp, DurationUnit, MatchWord } from "./syntax.js";
import { False, not as negated, True, type Truth } from "./truth.js";

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
  /** `list` is a list field, or a list that the session knows. */
  | { readonly kind: "in-list"; readonly operand: Operand; readonly list: Operand }
  | { readonly kind: "match"; readonly how: MatchWord; readonly operand: Operand; readonly pattern: Operand }
  | { readonly kind: "is-null"; readonly operand: Operand }
  /**
   * `path` leads to the current user, or to one of the records that they hold a role on (`subject` is then a list); a path
   * that ends in a list, to any of its elements. False, not unknown, where it leads to nobody.
   */
  | { readonly kind: "belongs"; readonly path: FieldPath; readonly subject: Operand }
  /** The person is above the one that `path` leads to, at any distance along `line`, the people's manager field. */
  | { readonly kind: "above"; readonly path: FieldPath; readonly line: Field; readonly subject: Operand }
  /**
   * Some record of `table` meets `condition`, in which `outer` operands read the record that the rule is about, `around`
   * ones the record at hand.
   */
  | {
      readonly kind: "exists";
      readonly table: string;
      readonly condition: Expression;
      /** A demand of the condition that finds the candidates: what `path` leads to from the inner record is `value`. */
      readonly link: { readonly path: FieldPath; readonly value: Operand } | undefined;
    }
  /** May the current user do `action` with the record of `target` whose key this is? */
  | { readonly kind: "may"; readonly action: string; readonly key: Operand; readonly target: string }
  /** A membership of the current user that is left open: nothing is known of the person but some roles. Unknown. */
  | { readonly kind: "open"; readonly name: string }
  | PersonTest
  | LineTest;

/**
 * The person whose key this is, or some person of a list, holds a role or is in a group. Unknown where the key is null or
 * leads to nobody; of a list, elements that lead to nobody do not count.
 */
export interface PersonTest {
  readonly kind: "person";
  readonly key: Operand;
  /** The people's table. */
  readonly people: string;
  /** The role or group. */
  readonly member: string;
  /** The same as it is written; of a scoped role, with the path to the record that it is held on: `lead of exhibition`. */
  readonly name: string;
  /** What makes them a member, as a condition on their own record. */
  readonly condition: Expression;
  /** What is asked of the record at hand besides: that they hold the role on what it leads to. */
  readonly here: Expression | undefined;
  /** `every`: the opposite, which must hold of each person; or else of the record at hand. */
  readonly quantifier: "some" | "every";
}

/** Somebody above or below the person whose record this is, themselves aside, meets a condition on their own record. */
export interface LineTest {
  readonly kind: "line";
  readonly direction: "above" | "below";
  /** How many steps of the line are looked at; undefined for all of them. */
  readonly levels: number | undefined;
  /** The people's manager field, and their key. */
  readonly line: Field;
  readonly key: Field;
  readonly condition: Expression;
  readonly quantifier: "some" | "every";
}

export type Operand =
  | { readonly kind: "constant"; readonly type: FieldType; readonly value: Scalar | null }
  /** A value that does not fit its type, or a date beyond the calendar: unknown in every condition. */
  | { readonly kind: "unreadable"; readonly type: FieldType }
  | { readonly kind: "field"; readonly type: FieldType; readonly path: FieldPath }
  /** Inside `exists`: a field of the record that the rule is about. */
  | { readonly kind: "outer"; readonly type: FieldType; readonly path: FieldPath }
  /** Inside `exists`: a field of the record of which it is asked, which for an inner one is that of the outer one. */
  | { readonly kind: "around"; readonly type: FieldType; readonly path: FieldPath }
  /** A field of the current user; the people's key alone for `me`. */
  | { readonly kind: "me"; readonly type: FieldType; readonly path: FieldPath; readonly slot?: number }
  /** The addresses of the records on which the person holds a scoped role: a list of texts. */
  | { readonly kind: "held"; readonly type: FieldType; readonly role: string; readonly slot?: number }
  | { readonly kind: "request"; readonly type: FieldType; readonly name: string; readonly slot?: number }
  | { readonly kind: "today"; readonly type: FieldType; readonly slot?: number }
  | {
      readonly kind: "shift";
      readonly type: FieldType;
      readonly operand: Operand;
      readonly amount: number;
      readonly unit: DurationUnit;
    }
  /** A record's key as the text by which assignments name it. */
  | { readonly kind: "as-address"; readonly type: FieldType; readonly operand: Operand }
  /** An integer where it meets a decimal. */
  | { readonly kind: "as-decimal"; readonly type: FieldType; readonly operand: Operand };

/**
 * An operand that the session knows: it does not depend on the record. In a plan that is shared by those who have different
 * values, `slot` is its place among them.
 */
export type SessionOperand = Extract<Operand, { readonly kind: "me" | "held" | "request" | "today" }>;

export const never: Expression = { kind: "truth", value: False };
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
  if (term.kind === "truth") return { kind: "truth", value: negated(term.value) };
  return term.kind === "not" ? term.term : { kind: "not", term };
}

function chain(kind: "and" | "or", terms: readonly Expression[], neutral: Truth, decisive: Truth): Expression {
  const kept: Expression[] = [];
  let open: Truth = neutral;
  for (const term of terms) {
    for (const part of term.kind === kind ? term.terms : [term]) {
      if (part.kind !== "truth") kept.push(part);
      else if (part.value === decisive) return part;
      else open = kind === "and" ? (Math.min(open, part.value) as Truth) : (Math.max(open, part.value) as Truth);
    }
  }
  if (open !== neutral) kept.push({ kind: "truth", value: open });
  const [only] = kept;
  if (only === undefined) return { kind: "truth", value: neutral };
  return kept.length === 1 ? only : { kind, terms: kept };
}

/**
 * The same condition with every "not" at a single test. There, "and" as the smallest and "or" as the greatest also tell
 * exactly whether bad data is what leaves a condition undecided.
 */
export function pushNots(expression: Expression, isNegated = false): Expression {
  switch (expression.kind) {
    case "and":
    case "or": {
      const terms = expression.terms.map((term) => pushNots(term, isNegated));
      return (expression.kind === "and") === isNegated ? or(terms) : and(terms);
    }
    case "not":
      return pushNots(expression.term, !isNegated);
    case "in":
      // "Not in" is "all different": a null among the items then keeps it from being true, whatever bad data there is.
      if (!isNegated) return expression;
      return and(expression.items.map((right) => ({ kind: "compare", op: "<>", left: expression.operand, right })));
    case "person":
    case "line": {
      const condition = pushNots(expression.condition, isNegated);
      const quantifier = (expression.quantifier === "some") === isNegated ? "every" : "some";
      if (expression.kind === "line") return { ...expression, condition, quantifier };
      const here = expression.here && pushNots(expression.here, isNegated);
      return { ...expression, condition, here, quantifier };
    }
    default:
      return isNegated ? not(expression) : expression;
  }
}

/**
 * Calls `visit` for every operand of an expression, also those inside others and inside `exists`. What is asked of a
 * person's own record is not looked into: it reads none of these records.
 */
export function visitOperands(expression: Expression, visit: (operand: Operand) => void): void {
  visitTests(expression, (test) => {
    for (const operand of operandsWithin(test)) visit(operand);
    if (test.kind === "exists") visitOperands(test.condition, visit);
    if (test.kind === "person" && test.here !== undefined) visitOperands(test.here, visit);
  });
}

/** The conditions on other persons' records that stand in a test. */
export function personConditions(test: Expression): readonly Expression[] {
  return test.kind === "person" || test.kind === "line" ? [test.condition] : [];
}

/** Calls `visit` for everything in an expression that is not put together by and, or, not; `exists` is one test. */
export function visitTests(expression: Expression, visit: (test: Expression) => void): void {
  if (expression.kind === "and" || expression.kind === "or") {
    for (const term of expression.terms) visitTests(term, visit);
  } else if (expression.kind === "not") visitTests(expression.term, visit);
  else visit(expression);
}

/** The operands of a single test, without those inside `exists`. */
export function operandsOf(test: Expression): readonly Operand[] {
  switch (test.kind) {
    case "compare":
      return [test.left, test.right];
    case "in":
      return [test.operand, ...test.items];
    case "in-list":
      return [test.operand, test.list];
    case "match":
      return [test.operand, test.pattern];
    case "is-null":
      return [test.operand];
    case "belongs":
    case "above":
      return [test.subject, { kind: "field", path: test.path, type: lastOf(test.path).type }];
    case "may":
    case "person":
      return [test.key];
    case "line":
      return [{ kind: "field", path: [test.key], type: test.key.type }];
    case "exists":
      return test.link === undefined ? [] : [test.link.value];
    case "truth":
    case "open":
    case "and":
    case "or":
    case "not":
      return [];
    default:
      return test satisfies never;
  }
}

/** The operands of a single test and those inside others, without those inside `exists`. */
export function operandsWithin(test: Expression): readonly Operand[] {
  const within = (operand: Operand): readonly Operand[] =>
    isMade(operand) ? [operand, ...within(operand.operand)] : [operand];
  return operandsOf(test).flatMap(within);
}

/** Operands that are worked out from another one. */
export function isMade(operand: Operand): operand is Extract<Operand, { readonly operand: Operand }> {
  return operand.kind === "shift" || operand.kind === "as-decimal" || operand.kind === "as-address";
}

/** Whether an `exists` or `may` is the same for every record that the rule is about. */
export function isOfAnyRecord(test: Extract<Expression, { kind: "exists" | "may" }>): boolean {
  if (test.kind === "may") return test.key.kind === "constant";
  let isFree = true;
  visitOperands(test, (operand) => {
    if (operand.kind === "outer" || operand.kind === "around") isFree = false;
  });
  return isFree;
}

/** Whether deciding the expression needs records besides the one it is about. */
export function readsOtherRecords(expression: Expression): boolean {
  let reads = false;
  visitTests(expression, (test) => {
    reads ||= ["above", "exists", "may", "person", "line"].includes(test.kind);
    reads ||= operandsWithin(test).some((operand) => operand.kind === "field" && operand.path.length > 1);
  });
  return reads;
}
