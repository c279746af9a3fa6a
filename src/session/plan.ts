import type { Reading } from "../conditions/evaluate.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import type { ActionName } from "../rules/actions.js";
import type { Ruleset } from "../rules/compile-rules.js";
import type { Field, Table } from "../schema/schema.js";
import { type Decision, type Gate, gateOf, judge, makeSteps, notPermitted, type Step } from "./gate.js";
import { anyReach, bothReach, gateReach, type Reach } from "./reach.js";
import type { Subject } from "./subject.js";

/** What one class of equal persons may do with one table. Each part is worked out when it is first asked for. */
export interface TablePlan {
  readonly table: Table;
  readonly list: Visibility;
  readonly view: Visibility;
  readonly edit: FieldGates;
  readonly create: FieldGates & { readonly act: Gate };
  readonly delete: Gate;
}

/** A gate for each field, by {@link Field.index}; equal ones are one object, listed once in `distinct`. */
export interface FieldGates {
  readonly gates: readonly Gate[];
  readonly distinct: readonly Gate[];
}

/** The gates of a table for showing it. The key has none that counts: it is seen whenever any field is. */
export interface Visibility extends FieldGates {
  /** For each field the position of its gate in `distinct`, or -1 for a key field. */
  readonly gateIndex: readonly number[];
}

/** The residual of a whole document for one class of persons: a map from tables to plans, filled as it is asked. */
export class Plan {
  readonly #ruleset: Ruleset;
  readonly #subject: Subject;
  readonly #tables = new Map<string, TablePlan>();

  constructor(ruleset: Ruleset, subject: Subject) {
    this.#ruleset = ruleset;
    this.#subject = subject;
  }

  of(table: Table): TablePlan {
    let plan = this.#tables.get(table.name);
    if (plan === undefined) {
      plan = new LazyTablePlan(this.#ruleset, this.#subject, table);
      this.#tables.set(table.name, plan);
    }
    return plan;
  }
}

class LazyTablePlan implements TablePlan {
  readonly table: Table;
  readonly #steps: (action: ActionName) => Step[];
  #list: Visibility | undefined;
  #view: Visibility | undefined;
  #edit: FieldGates | undefined;
  #create: (FieldGates & { readonly act: Gate }) | undefined;
  #delete: Gate | undefined;

  constructor(ruleset: Ruleset, subject: Subject, table: Table) {
    this.table = table;
    this.#steps = (action) => makeSteps(ruleset.of(table.name, action), action, subject);
  }

  /** A permitted view also permits list, and what is denied for either is not listed. */
  get list(): Visibility {
    this.#list ??= visibility(this.table, [
      ["list", this.#steps("list")],
      ["view", this.#steps("view")],
    ]);
    return this.#list;
  }

  get view(): Visibility {
    this.#view ??= visibility(this.table, [["view", this.#steps("view")]]);
    return this.#view;
  }

  get edit(): FieldGates {
    this.#edit ??= fieldGates(this.table, [["edit", this.#steps("edit")]]);
    return this.#edit;
  }

  get create(): FieldGates & { readonly act: Gate } {
    if (this.#create === undefined) {
      const steps = this.#steps("create");
      this.#create = { ...fieldGates(this.table, [["create", steps]]), act: actGate(steps, "create") };
    }
    return this.#create;
  }

  get delete(): Gate {
    this.#delete ??= actGate(this.#steps("delete"), "delete");
    return this.#delete;
  }
}

function actGate(steps: readonly Step[], action: ActionName): Gate {
  return gateOf(steps.filter((step) => step.rule.extents.get(action)?.act === true));
}

function fieldGates(table: Table, parts: readonly (readonly [ActionName, readonly Step[]])[]): FieldGates {
  const shared = new Map<string, Gate>();
  const gates = table.fields.map((field) => {
    const covering: Step[] = [];
    const ids: string[] = [];
    for (const [part, [action, steps]] of parts.entries()) {
      for (const [index, step] of steps.entries()) {
        if (step.rule.extents.get(action)?.fields.has(field) !== true) continue;
        covering.push(step);
        ids.push(`${part}.${index}`);
      }
    }
    const id = ids.join(" ");
    const gate = shared.get(id) ?? gateOf(covering);
    shared.set(id, gate);
    return gate;
  });
  return { gates, distinct: [...shared.values()] };
}

function visibility(table: Table, parts: readonly (readonly [ActionName, readonly Step[]])[]): Visibility {
  const { gates, distinct } = fieldGates(table, parts);
  const gateIndex = table.fields.map((field, index) =>
    table.key.includes(field) ? -1 : distinct.indexOf(gates[index] as Gate),
  );
  return { gates, distinct, gateIndex };
}

/** Whether any field of the record is seen. */
export function isSeen({ distinct }: Visibility, row: Row, reading: Reading): boolean {
  for (let i = 0; i < distinct.length; i++) {
    if (judge(distinct[i] as Gate, row, reading).permitted) return true;
  }
  return false;
}

/** A record is known if it is listable or viewable; what is not known does not exist for the person. */
export function isKnown(plan: TablePlan, row: Row, reading: Reading): boolean {
  return isSeen(plan.list, row, reading) || isSeen(plan.view, row, reading);
}

/** The decision for one field, or with none for the record as a whole. The key is seen whenever any field is. */
export function judgeVisible(seen: Visibility, field: Field | undefined, row: Row, reading: Reading): Decision {
  if (field !== undefined && seen.gateIndex[field.index] !== -1) {
    return judge(seen.gates[field.index] as Gate, row, reading);
  }
  return judgeAny(seen.distinct, (gate) => judge(gate, row, reading), row, reading);
}

/**
 * Whether any of the gates lets through; one that does for certain goes before one that does tentatively. A refusal
 * names a rule only when that rule stopped what another would have permitted.
 */
export function judgeAny(
  gates: readonly Gate[],
  decide: (gate: Gate) => Decision,
  row: Row,
  reading: Reading,
): Decision {
  let best: Decision = notPermitted;
  for (const gate of gates) {
    const decision = decide(gate);
    if (decision.permitted && !decision.tentative) return decision;
    if (decision.permitted) best = decision;
    else if (!best.permitted && best.rule === undefined && hasPermit(gate, row, reading)) best = decision;
  }
  return best;
}

function hasPermit({ permits }: Gate, row: Row, reading: Reading): boolean {
  return permits.some((step) => step.testBefore(row, reading) === True);
}

/** The reach of an action on a table, or on one field of it. */
export function reachOf(plan: TablePlan, action: ActionName, field: Field | undefined): Reach {
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

function knownReach(plan: TablePlan): Reach {
  return anyReach([reachOf(plan, "list", undefined), reachOf(plan, "view", undefined)]);
}
