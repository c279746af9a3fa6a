import type { Expression } from "../conditions/expression.js";
import { True } from "../conditions/truth.js";
import type { ActionName } from "../rules/actions.js";
import type { Field } from "../schema/schema.js";
import type { Gate, Step } from "./gate.js";
import type { TableGates } from "./table-gates.js";

/**
 * On how many records something is permitted: `all` and `none` are promises, `own` means only through ownership,
 * `some` that it depends on the record (or that no promise can be shown).
 */
export type Reach = "all" | "own" | "some" | "none";

export function gateReach({ blocks, permits }: Gate): Reach {
  if (permits.length === 0) return "none";
  if (blocks.some((step) => isCertain(step) && !isTentative(step))) return "none";
  if (blocks.length === 0 && permits.some(isCertain)) return "all";
  return permits.every(isOwners) ? "own" : "some";
}

/** Whether a step applies to every record and every change. */
export function isCertain(step: Step): boolean {
  return isTrue(step.before) && isTrue(step.after);
}

/** Whether the new values have a say in an edit: then, without them, it may be tried. */
export function isTentative(step: Step): boolean {
  return step.after !== undefined && step.rule.becomes !== undefined;
}

function isTrue(expression: Expression | undefined): boolean {
  return expression === undefined || (expression.kind === "truth" && expression.value === True);
}

/** Whether a step lets nobody but an owner through: ownership is one of the things it demands. */
function isOwners({ before, rule }: Step): boolean {
  const demands = before.kind === "and" ? before.terms : [before];
  return demands.some((term) => term.kind === "belongs" && term.path === rule.table.owner);
}

/** Of several ways to the same thing, the best. */
export function anyReach(reaches: readonly Reach[]): Reach {
  if (reaches.includes("all")) return "all";
  if (reaches.includes("some")) return "some";
  return reaches.includes("own") ? "own" : "none";
}

/** Of several things that are all needed, the worst. */
export function bothReach(a: Reach, b: Reach): Reach {
  for (const worst of ["none", "own", "some"] as const) {
    if (a === worst || b === worst) return worst;
  }
  return "all";
}

/** The reach of an action on a table, or on one field of it. */
export function reachOf(plan: TableGates, action: ActionName, field: Field | undefined): Reach {
  switch (action) {
    case "list":
    case "view": {
      const seen = plan[action];
      const own = field !== undefined && seen.gateIndex[field.index] !== -1 ? seen.gates[field.index] : undefined;
      return own === undefined ? anyReach(seen.distinct.map(gateReach)) : gateReach(own);
    }
    case "edit": {
      const gates = field === undefined ? plan.edit.distinct : [plan.edit.gates[field.index] as Gate];
      return bothReach(knownReach(plan), anyReach(gates.map(gateReach)));
    }
    case "create": {
      const act = gateReach(plan.create.act);
      return field === undefined ? act : bothReach(act, gateReach(plan.create.gates[field.index] as Gate));
    }
    case "delete":
      return bothReach(knownReach(plan), gateReach(plan.delete));
    default:
      return action satisfies never;
  }
}

function knownReach(plan: TableGates): Reach {
  return anyReach([reachOf(plan, "list", undefined), reachOf(plan, "view", undefined)]);
}
