import { compileTest, type Judge } from "../conditions/evaluate.js";
import { visitTests } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Ruleset } from "../rules/ruleset.js";
import { compileTruth } from "./conditions.js";
import type { Plan } from "./plan.js";
import type { Asker } from "./subject.js";

/**
 * The current user, with every test decided that is the same for all records, such as settings that are stored as rows:
 * `exists (hidden_fields where person = me)`. A test that cannot be evaluated yet stays open until a record is checked.
 */
export function withDecided(asker: Asker, plan: Plan, reading: Reading): Asker {
  const judge: Judge = (action, table) => compileTruth(plan.of(table), action);
  return {
    ...asker,
    decided: (test) => {
      try {
        return compileTest(test, judge)({}, reading);
      } catch {
        return undefined;
      }
    },
  };
}

/** Whether any rule has a test that can be the same for all records, once the current user is known. */
export function asksOfAnyRecord({ rules }: Ruleset): boolean {
  const conditions = rules.flatMap(({ where, becomes }) => [where, becomes ?? where]);
  let asks = false;
  for (const condition of conditions) {
    visitTests(condition, ({ kind }) => {
      asks ||= kind === "exists" || kind === "may";
    });
  }
  return asks;
}
