import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { type ActionName, isBuiltIn } from "../rules/actions.js";
import { type Field, isOwn } from "../schema/schema.js";
import { type Decision, notFound, notPermitted, withConfirmations } from "./decision.js";
import type { Decide, Gate } from "./gate.js";
import { lookupTest } from "./lookups.js";
import type { TableGates } from "./table-gates.js";

/** Puts the gates of a plan together to the one decision about a field, or about a record as a whole. */
export function compileDecision(plan: TableGates, action: ActionName, field: Field | undefined): Decide {
  if (!isBuiltIn(action)) return ifKnown(plan, plan.act(action).decide);
  switch (action) {
    case "list":
    case "view":
      return decideVisible(plan, action, field);
    case "export":
      return decideExport(plan, field);
    case "edit":
    case "bulk":
      return ifKnown(plan, decideChange(plan, action, field));
    case "create":
      return decideNew(plan, action, field);
    case "import":
      return both(decideNew(plan, "create", field), decideNew(plan, action, field));
    case "delete":
      return ifKnown(plan, plan.act(action).decide);
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
  return [...plan.seen("list").visible, ...plan.seen("view").visible].some((gate) => gate.reach === "all");
}

/** Whether the person knows of a record: any field of it is listed or viewed. One that cannot be decided decides nothing. */
export function compileKnows(plan: TableGates): (row: Row, reading: Reading) => boolean {
  if (isAlwaysKnown(plan)) return () => true;
  const gates = [...plan.seen("list").visible, ...plan.seen("view").visible];
  return (row, reading) => {
    const failures: unknown[] = [];
    for (let i = 0; i < gates.length; i++) {
      try {
        if ((gates[i] as Gate).decide(row, reading).permitted) return true;
      } catch (error) {
        failures.push(error);
      }
    }
    if (failures.length > 0) throw failures[0];
    return false;
  };
}

/** The key is seen whenever any field is; a made reference where all its parts are; a lookup where its source is, too. */
function decideVisible(plan: TableGates, action: "list" | "view", field: Field | undefined): Decide {
  const { visible, gates } = plan.seen(action);
  if (field === undefined || plan.table.key.includes(field)) {
    return decideAny(visible.map((gate) => [gate, gate.decide]));
  }
  const { decide } = gates[field.index] as Gate;
  if (field.lookup !== undefined) return decideLookup(plan, action, field, decide);
  return field.by === undefined
    ? decide
    : field.by.map((part) => decideVisible(plan, action, part)).reduce(both, decide);
}

/** A lookup's own answer, and whether its source may be shown. By itself it makes no record known, or exported. */
function decideLookup(plan: TableGates, action: "list" | "view" | "export", field: Field, decide: Decide): Decide {
  const sees = lookupTest(plan, action, field);
  const record = action === "export" ? decideExport(plan, undefined) : decideVisible(plan, action, undefined);
  return (row, reading) => {
    const own = decide(row, reading);
    if (!own.permitted) return own;
    return record(row, reading).permitted && sees(row, reading) ? own : notPermitted;
  };
}

/** Only what may also be viewed, by rules of its own. The key goes out whenever any field does. */
function decideExport(plan: TableGates, field: Field | undefined): Decide {
  if (field !== undefined && !plan.table.key.includes(field)) return decideExported(plan, field);
  const { gates } = plan.fields("export");
  const asked = plan.table.fields.filter((each) => isOwn(each) && gates[each.index]?.hasPermits);
  return decideAny(asked.map((each) => [gates[each.index] as Gate, decideExported(plan, each)]));
}

function decideExported(plan: TableGates, field: Field): Decide {
  const { decide } = plan.fields("export").gates[field.index] as Gate;
  const own = field.lookup === undefined ? decide : decideLookup(plan, "export", field, decide);
  const parts = (field.by ?? []).map((part) => decideExport(plan, part));
  return [...parts, own].reduce(both, decideVisible(plan, "view", field));
}

/** Whether a change may be tried; a bulk change only where the edit may. */
function decideChange(plan: TableGates, action: "edit" | "bulk", field: Field | undefined): Decide {
  const edit = plan.fields("edit").gates;
  const bulk = action === "bulk" ? plan.fields("bulk").gates : undefined;
  const one = (asked: Field): Decide => {
    const { attempt } = edit[asked.index] as Gate;
    return bulk === undefined ? attempt : both(attempt, (bulk[asked.index] as Gate).attempt);
  };
  if (field !== undefined) return one(field);
  // Fields under the same rules give the same answer; each pair of gates is asked once.
  const asked = plan.table.fields.filter((each, index, all) => {
    const isSame = (other: Field) =>
      edit[other.index] === edit[each.index] && bulk?.[other.index] === bulk?.[each.index];
    return all.findIndex(isSame) === index;
  });
  const whole = decideAny(asked.map((each) => [edit[each.index] as Gate, one(each)]));
  return (row, reading) => {
    const decision = whole(row, reading);
    // What is to be confirmed belongs to a field; asked without one, nothing is changed yet.
    return decision.confirm === undefined ? decision : withoutConfirmations(decision);
  };
}

function withoutConfirmations({ confirm: _, ...decision }: Decision): Decision {
  return decision;
}

function decideNew(plan: TableGates, action: "create" | "import", field: Field | undefined): Decide {
  const act = plan.act(action);
  if (field === undefined) return act.decide;
  const gate = plan.fields(action).gates[field.index] as Gate;
  return (row, reading) => {
    const made = act.decide(row, reading);
    return made.permitted ? gate.decide(row, reading) : made;
  };
}

/** Both must permit; the confirmations of both are asked. */
export function both(first: Decide, second: Decide): Decide {
  return (row, reading) => {
    const one = first(row, reading);
    if (!one.permitted) return one;
    const other = second(row, reading);
    if (!other.permitted) return other;
    const joined = withConfirmations(other, one.confirm);
    return one.tentative === true && joined.tentative !== true ? { ...joined, tentative: true } : joined;
  };
}

/**
 * Whether any of the gates lets through; one that does for certain goes before one that does tentatively. A refusal
 * names a rule only when that rule stopped what another would have permitted. Where one cannot be decided, the others are
 * asked; that none lets through is then not certain, and a fault.
 */
function decideAny(gates: readonly (readonly [Gate, Decide])[]): Decide {
  return (row, reading) => {
    let best: Decision = notPermitted;
    const failures: unknown[] = [];
    for (const [gate, decide] of gates) {
      try {
        const decision = decide(row, reading);
        if (decision.permitted && !decision.tentative) return decision;
        if (decision.permitted) best = decision;
        else if (!best.permitted && best.rule === undefined && gate.wouldPermit(row, reading)) best = decision;
      } catch (error) {
        failures.push(error);
      }
    }
    if (!best.permitted && failures.length > 0) throw failures[0];
    return best;
  };
}
