import type { Expression, SessionOperand } from "../conditions/expression.js";
import { specialize } from "../conditions/specialize.js";
import type { Scalar } from "../schema/scalar.js";
import type { Plan } from "./plan.js";

/** What is left of the rules for one session: a plan that it shares with all who are alike, and its own values. */
export interface Residual {
  readonly plan: Plan;
  /** What the plan leaves open, by slot. Undefined where it leaves nothing open. */
  readonly values?: readonly (Scalar | undefined)[] | undefined;
}

/** A condition of a residual's plan with its own values in it: for what is not evaluated here, such as SQL. */
export function bound(condition: Expression, { values }: Pick<Residual, "values">): Expression {
  if (values === undefined || values.length === 0) return condition;
  return specialize(condition, (operand: SessionOperand) => {
    const value = operand.slot === undefined ? undefined : values[operand.slot];
    return value === undefined ? operand : { kind: "constant", type: operand.type, value };
  });
}
