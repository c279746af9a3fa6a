import type { Reading } from "../conditions/evaluate.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import type { ActionName } from "../rules/actions.js";
import type { Field } from "../schema/schema.js";
import { compileAttempt, type Decide, type Decision, type Gate, notFound, notPermitted } from "./gate.js";
import { gateReach } from "./reach.js";
import type { TableGates, Visibility } from "./table-gates.js";

/** Puts the gates of a plan together to the one decision about a field, or about a record as a whole. */
export function compileDecision(plan: TableGates, action: ActionName, field: Field | undefined): Decide {
  switch (action) {
    case "list":
    case "view":
      return decideVisible(plan[action], field);
    case "edit": {
      const { gates, distinct } = plan.edit;
      if (field !== undefined) return ifKnown(plan, compileAttempt(gates[field.index] as Gate));
      return ifKnown(plan, decideAny(distinct.map((gate) => [gate, compileAttempt(gate)])));
    }
    case "create": {
      const { act, gates } = plan.create;
      if (field === undefined) return act.decide;
      const gate = gates[field.index] as Gate;
      return (row, reading) => {
        const made = act.decide(row, reading);
        return made.permitted ? gate.decide(row, reading) : made;
      };
    }
    case "delete":
      return ifKnown(plan, plan.delete.decide);
    default:
      return action satisfies never;
  }
}

function ifKnown(plan: TableGates, decide: Decide): Decide {
  if (isAlwaysKnown(plan)) return decide;
  const { knows } = plan;
  return (row, reading) => (knows(row, reading) ? decide(row, reading) : notFound);
}

function isAlwaysKnown(plan: TableGates): boolean {
  return [...plan.list.distinct, ...plan.view.distinct].some((gate) => gateReach(gate) === "all");
}

/** Whether the person knows of a record: any field of it is listed or viewed. */
export function compileKnows(plan: TableGates): (row: Row, reading: Reading) => boolean {
  if (isAlwaysKnown(plan)) return () => true;
  const gates = [...plan.list.distinct, ...plan.view.distinct].filter(({ permits }) => permits.length > 0);
  return (row, reading) => {
    for (let i = 0; i < gates.length; i++) {
      if ((gates[i] as Gate).decide(row, reading).permitted) return true;
    }
    return false;
  };
}

/** The key is seen whenever any field is. */
function decideVisible(seen: Visibility, field: Field | undefined): Decide {
  if (field !== undefined && seen.gateIndex[field.index] !== -1) return (seen.gates[field.index] as Gate).decide;
  return decideAny(seen.distinct.map((gate) => [gate, gate.decide]));
}

/**
 * Whether any of the gates lets through; one that does for certain goes before one that does tentatively. A refusal
 * names a rule only when that rule stopped what another would have permitted.
 */
function decideAny(gates: readonly (readonly [Gate, Decide])[]): Decide {
  return (row, reading) => {
    let best: Decision = notPermitted;
    for (const [gate, decide] of gates) {
      const decision = decide(row, reading);
      if (decision.permitted && !decision.tentative) return decision;
      if (decision.permitted) best = decision;
      else if (!best.permitted && best.rule === undefined && hasPermit(gate, row, reading)) best = decision;
    }
    return best;
  };
}

function hasPermit({ permits }: Gate, row: Row, reading: Reading): boolean {
  return permits.some((step) => step.testBefore(row, reading) === True);
}
