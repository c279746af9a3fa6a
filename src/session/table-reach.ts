import { type ActionName, isBuiltIn } from "../rules/actions.js";
import { type Field, isOwn } from "../schema/schema.js";
import { anyReach, bothReach, type Reach } from "./reach.js";
import type { TableGates } from "./table-gates.js";

/** The reach of an action on a table, or on one field of it. */
export function reachOf(plan: TableGates, action: ActionName, field: Field | undefined): Reach {
  if (!isBuiltIn(action)) return bothReach(knownReach(plan), plan.act(action).reach);
  switch (action) {
    case "list":
    case "view":
      return fieldReach(plan, action, field);
    case "export": {
      // The key goes out whenever any field does.
      const asked = field !== undefined && plan.table.key.includes(field) ? undefined : field;
      return anyFieldReach(plan, asked, (one) => bothReach(fieldReach(plan, "view", one), exportReach(plan, one)));
    }
    case "edit":
      return bothReach(
        knownReach(plan),
        anyFieldReach(plan, field, (one) => gateOf(plan, action, one)),
      );
    case "bulk": {
      const both = (one: Field) => bothReach(gateOf(plan, "edit", one), gateOf(plan, "bulk", one));
      return bothReach(knownReach(plan), anyFieldReach(plan, field, both));
    }
    case "create":
    case "import": {
      const act = plan.act(action).reach;
      const whole = action === "import" ? bothReach(act, reachOf(plan, "create", field)) : act;
      return field === undefined ? whole : bothReach(whole, gateOf(plan, action, field));
    }
    case "delete":
      return bothReach(knownReach(plan), plan.act(action).reach);
    default:
      return action satisfies never;
  }
}

function gateOf(plan: TableGates, action: ActionName, field: Field): Reach {
  return plan.fields(action).gates[field.index]?.reach ?? "none";
}

/** What is put together from others goes out only where those do, which no promise can be made of. */
function exportReach(plan: TableGates, field: Field): Reach {
  const own = gateOf(plan, "export", field);
  return isOwn(field) || own === "none" ? own : "some";
}

function anyFieldReach({ table }: TableGates, field: Field | undefined, reach: (field: Field) => Reach): Reach {
  return field === undefined ? anyReach(table.fields.map(reach)) : reach(field);
}

/** A key is seen whenever any field is; a lookup or made reference depends on other records or fields besides. */
function fieldReach(plan: TableGates, action: "list" | "view", field: Field | undefined): Reach {
  const { visible, gates } = plan.seen(action);
  if (field === undefined || plan.table.key.includes(field)) return anyReach(visible.map((gate) => gate.reach));
  const own = gates[field.index]?.reach ?? "none";
  if (field.by !== undefined) {
    return field.by.map((part) => fieldReach(plan, action, part)).reduce(bothReach, own);
  }
  if (field.lookup === undefined || own === "none") return own;
  return fieldReach(plan, action, undefined) === "none" ? "none" : "some";
}

function knownReach(plan: TableGates): Reach {
  return anyReach([fieldReach(plan, "list", undefined), fieldReach(plan, "view", undefined)]);
}
