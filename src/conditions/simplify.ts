import { and, type Expression, operandsOf, or } from "./expression.js";
import { False, True } from "./truth.js";

/** Beyond this many, terms are only compared for equality: each is held against each of the others. */
const most = 64;
/** How many steps are taken to find out what follows from what: more are needed only for conditions in many layers. */
const mostSteps = 20_000;

/**
 * The same truth for every record by fewer tests, the short ones first: what is said twice, or follows from what stands
 * beside it, is left out. Truth values are ordered, with "and" the smallest and "or" the greatest, so `a or (a and b)` is `a`
 * for all four of them. Which of several terms tells a truth is lost: this is for a yes or no.
 */
export function simplify(expression: Expression): Expression {
  return withoutImplied(expression, { left: mostSteps });
}

interface Steps {
  left: number;
}

function withoutImplied(expression: Expression, steps: Steps): Expression {
  if (expression.kind !== "and" && expression.kind !== "or") return expression;
  const isAnd = expression.kind === "and";
  const join = isAnd ? and : or;
  const joined = join(expression.terms.map((term) => withoutImplied(term, steps)));
  if (joined.kind !== expression.kind) return joined;
  const terms = [...new Map(joined.terms.map((term) => [keyOf(term), term])).values()];
  terms.sort((a, b) => size(a) - size(b));
  if (terms.length > most) return join(terms);
  const kept: Expression[] = [];
  for (const term of terms) {
    const isImplied = kept.some((other) => (isAnd ? implies(other, term, steps) : implies(term, other, steps)));
    if (!isImplied) kept.push(term);
  }
  return join(kept);
}

/** Whether `a` is nowhere truer than `b`, as far as their form tells. */
function implies(a: Expression, b: Expression, steps: Steps): boolean {
  if (steps.left-- <= 0) return false;
  if (a.kind === "truth" && a.value === False) return true;
  if (b.kind === "truth" && b.value === True) return true;
  if (keyOf(a) === keyOf(b)) return true;
  if (a.kind === "or") return a.terms.every((term) => implies(term, b, steps));
  if (b.kind === "and") return b.terms.every((term) => implies(a, term, steps));
  if (a.kind === "and" && a.terms.some((term) => implies(term, b, steps))) return true;
  return b.kind === "or" && b.terms.some((term) => implies(a, term, steps));
}

function size(expression: Expression): number {
  if (expression.kind === "not") return size(expression.term);
  if (expression.kind !== "and" && expression.kind !== "or") return operandsOf(expression).length;
  return expression.terms.reduce((sum, term) => sum + size(term), 0);
}

const keys = new WeakMap<Expression, string>();

/** A text that equal conditions share, and no others. */
export function keyOf(expression: Expression): string {
  const known = keys.get(expression);
  if (known !== undefined) return known;
  const key =
    expression.kind === "and" || expression.kind === "or"
      ? `${expression.kind}(${expression.terms.map(keyOf).sort().join(",")})`
      : JSON.stringify(expression, nameOf);
  keys.set(expression, key);
  return key;
}

/** Fields by their names, and types by what they expect: the rest of a condition is plain. */
function nameOf(_name: string, value: unknown): unknown {
  if (typeof value !== "object" || value === null) return value;
  if ("table" in value && "index" in value && "name" in value) return [value.table, value.name];
  return "expects" in value && "canonical" in value ? value.expects : value;
}
