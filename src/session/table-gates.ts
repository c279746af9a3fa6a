import type { Reading } from "../conditions/evaluate.js";
import type { Row } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import type { Table } from "../schema/schema.js";
import { type Gate, gateOf, type Step } from "./gate.js";

/** The gates of one table for one class of equal persons. */
export interface TableGates {
  readonly table: Table;
  readonly list: Visibility;
  readonly view: Visibility;
  readonly edit: FieldGates;
  readonly create: FieldGates & { readonly act: Gate };
  readonly delete: Gate;
  /** Whether the person knows of a record: any field of it is listed or viewed. */
  readonly knows: (row: Row, reading: Reading) => boolean;
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

/** The gate of an action as a whole: its rules with `yes`, or for create those that cover the act. */
export function actGate(steps: readonly Step[], action: ActionName): Gate {
  return gateOf(steps.filter((step) => step.rule.extents.get(action)?.act === true));
}

/** One gate for each field, from the steps of one or several actions; fields under the same rules share theirs. */
export function fieldGates(table: Table, parts: readonly (readonly [ActionName, readonly Step[]])[]): FieldGates {
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

export function visibility(table: Table, parts: readonly (readonly [ActionName, readonly Step[]])[]): Visibility {
  const { gates, distinct } = fieldGates(table, parts);
  const gateIndex = table.fields.map((field, index) =>
    table.key.includes(field) ? -1 : distinct.indexOf(gates[index] as Gate),
  );
  return { gates, distinct, gateIndex };
}
