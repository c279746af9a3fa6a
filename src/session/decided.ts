import { compileTest, type Judge } from "../conditions/evaluate.js";
import { type Expression, isOfAnyRecord, visitTests } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Decided } from "../conditions/specialize.js";
import type { Truth } from "../conditions/truth.js";
import type { Ruleset } from "../rules/ruleset.js";
import { compileTruth } from "./conditions.js";
import type { Plan, StepSource } from "./plan.js";
import { Recent } from "./recent.js";
import { decideStep, type StepData } from "./step.js";

/**
 * What is left of the rules once every test is decided that is the same for all records, such as settings that are stored
 * as rows: `exists (hidden_fields where person = me)`. A test that cannot be evaluated yet stays open until a record is
 * checked. Where nothing is to be decided, the steps of a table and action are the plan's own, the very list.
 */
export function decidedSteps(plan: Plan, reading: Reading): StepSource {
  const judge: Judge = (action, table) => compileTruth(plan.judged(table), action);
  const truthOf: Decided = (test) => {
    try {
      return compileTest(test, judge)({}, reading);
    } catch {
      return undefined;
    }
  };
  return (table, action) => {
    const steps = plan.of(table.name).data(action);
    if (!steps.some(asksOfAll)) return steps;
    const truths: (Truth | undefined)[] = [];
    const decided: Decided = (test) => {
      const truth = truthOf(test);
      truths.push(truth);
      return truth;
    };
    const left = steps.map((step) => decideStep(step, table, decided)).filter((step) => step !== undefined);
    return sameFor(steps, truths.join(), left);
  };
}

/** By the steps before, and what was decided of them: most people come to one of a few outcomes. */
const outcomes = new WeakMap<readonly StepData[], Recent<readonly StepData[]>>();

function sameFor(steps: readonly StepData[], outcome: string, left: readonly StepData[]): readonly StepData[] {
  const known = outcomes.get(steps) ?? new Recent<readonly StepData[]>(16);
  outcomes.set(steps, known);
  const same = known.get(outcome) ?? left;
  known.set(outcome, same);
  return same;
}

function asksOfAll({ who, where, after }: StepData): boolean {
  return [who, where, after].some((condition) => condition !== undefined && asks(condition, isOfAnyRecord));
}

/** Whether any rule has a test that can be the same for all records, once the current user is known. */
export function asksOfAnyRecord({ rules }: Ruleset): boolean {
  return rules.some(({ where, becomes }) => [where, becomes ?? where].some((condition) => asks(condition, () => true)));
}

type Questioning = Extract<Expression, { readonly kind: "exists" | "may" }>;

function asks(condition: Expression, isAsked: (test: Questioning) => boolean): boolean {
  let found = false;
  visitTests(condition, (test) => {
    if (test.kind === "exists" || test.kind === "may") found ||= isAsked(test);
  });
  return found;
}
