import { actionTree, gatesIn } from "../rules/action-tree.js";
import type { Field } from "../schema/schema.js";
import { type Decision, notPermitted } from "./decision.js";
import type { TablePlan } from "./plan.js";

/** Whether a record may be made at all, or a field given to it, before any value is known. */
export function attemptNew(plan: TablePlan, action: "create" | "import", field: Field | undefined): Decision {
  const reach = plan.answers(action).reach(field?.name);
  const gates = gatesIn(actionTree(plan.table, action, field)).map((node) => plan.gate(node));
  if (reach === "none") {
    const refusing = gates.find((gate) => gate.reach === "none");
    const block = refusing?.placed.find(({ step }) => step.phase === "block" && step.before.kind === "truth")?.step;
    return block?.decision ?? notPermitted;
  }
  const last = gates[gates.length - 1];
  const permit = last?.placed.find(({ step }) => step.phase === "permit")?.step;
  if (permit === undefined) return notPermitted;
  return reach === "all" ? permit.decision : permit.tentativeDecision;
}
