import { compileEquality } from "./equality.js";
import { compileTest } from "./evaluate.js";
import type { Expression } from "./expression.js";
import type { Reading } from "./read.js";
import type { Row } from "./source.js";
import { True, type Truth } from "./truth.js";

/** Whether a condition is true. */
export type Yes = (row: Row, reading: Reading) => boolean;

/** For a condition in which every "not" stands at a single test: there, nothing needs to know why it is not true. */
export function compileYes(expression: Expression): Yes {
  if (expression.kind === "and") return expression.terms.map(compileYes).reduceRight(both);
  if (expression.kind === "or")
    return expression.terms.length > 4
      ? any(expression.terms.map(compileYes))
      : expression.terms.map(compileYes).reduceRight(either);
  const direct = compileEquality(expression, isTrue);
  if (direct !== undefined) return direct;
  const test = compileTest(expression);
  return (row, reading) => test(row, reading) === True;
}

const isTrue = (truth: Truth): boolean => truth === True;

function both(next: Yes, first: Yes): Yes {
  return (row, reading) => first(row, reading) && next(row, reading);
}

function either(next: Yes, first: Yes): Yes {
  return (row, reading) => first(row, reading) || next(row, reading);
}

function any(tests: readonly Yes[]): Yes {
  return (row, reading) => {
    for (let i = 0; i < tests.length; i++) if ((tests[i] as Yes)(row, reading)) return true;
    return false;
  };
}
