import { describeExpression, describeOperand } from "./describe.js";
import { type Expression, type Operand, pushNots } from "./expression.js";
import { type ComparisonOp, turnedOps } from "./syntax.js";
import { True } from "./truth.js";

type Compare = Extract<Expression, { kind: "compare" }>;

/**
 * Whether a condition can be seen to be met by no record, whatever it holds: a value that would have to be two, a range
 * that ends before it begins, a test and its opposite. False says nothing: it does not look for everything.
 */
export function isContradiction(condition: Expression): boolean {
  const plain = pushNots(condition);
  if (plain.kind === "truth") return plain.value !== True;
  if (plain.kind === "or") return plain.terms.every(isContradiction);
  const terms = plain.kind === "and" ? plain.terms : [plain];
  if (terms.some((term) => term.kind === "or" && isContradiction(term))) return true;
  const said = new Set(terms.map(describeExpression));
  if (terms.some((term) => term.kind === "not" && said.has(describeExpression(term.term)))) return true;
  const tests = terms.flatMap(boundsOf);
  return tests.some((one, index) => tests.slice(index + 1).some((other) => exclude(one, other)));
}

/** What a test says about one operand: one of some values, or a bound. */
interface Bound {
  readonly operand: string;
  readonly test: Compare | { readonly kind: "one-of"; readonly values: readonly unknown[] } | { readonly kind: "null" };
}

function boundsOf(term: Expression): Bound[] {
  if (term.kind === "is-null") return [{ operand: nameOf(term.operand), test: { kind: "null" } }];
  if (term.kind === "in") {
    // Nothing equals null: among the values it is none.
    const values = term.items.map(constant).filter((value) => value !== null);
    if (values.includes(undefined)) return [];
    return [{ operand: nameOf(term.operand), test: { kind: "one-of", values } }];
  }
  if (term.kind !== "compare") return [];
  const isTurned = constant(term.left) !== undefined;
  const test: Compare = isTurned ? { ...term, op: turnedOps[term.op], left: term.right, right: term.left } : term;
  const value = constant(test.right);
  if (value === undefined || value === null) return [];
  const operand = nameOf(test.left);
  return [{ operand, test: test.op === "=" ? { kind: "one-of", values: [value] } : test }];
}

/** What is compared, and as what: a number is another value as an integer than as a decimal. */
function nameOf(operand: Operand): string {
  return `${operand.type.base} ${describeOperand(operand)}`;
}

function constant(operand: Operand): unknown {
  return operand.kind === "constant" ? operand.value : undefined;
}

function exclude(one: Bound, other: Bound): boolean {
  if (one.operand !== other.operand) return false;
  const [a, b] = [one.test, other.test];
  // What is compared is not null: a comparison with null is never true.
  if (a.kind === "null" || b.kind === "null") return a.kind !== b.kind;
  if (a.kind === "one-of" && b.kind === "one-of") return !a.values.some((value) => b.values.includes(value));
  if (a.kind === "one-of") return b.kind === "compare" && !a.values.some((value) => holds(value, b));
  if (b.kind === "one-of") return !b.values.some((value) => holds(value, a));
  const order = a.left.type.compare;
  if (order === undefined || !isBelow(a.op) === !isBelow(b.op) || a.op === "<>" || b.op === "<>") return false;
  const [low, high] = isBelow(a.op) ? [b, a] : [a, b];
  const apart = order(value(low), value(high));
  return apart > 0 || (apart === 0 && (low.op === ">" || high.op === "<"));
}

const isBelow = (op: ComparisonOp): boolean => op === "<" || op === "<=";

const value = ({ right }: Compare) => constant(right) as never;

function holds(found: unknown, { op, left, right }: Compare): boolean {
  const wanted = constant(right);
  if (op === "<>") return found !== wanted;
  const order = left.type.compare?.(found as never, wanted as never);
  if (order === undefined) return true;
  return op === "<" ? order < 0 : op === "<=" ? order <= 0 : op === ">" ? order > 0 : order >= 0;
}
