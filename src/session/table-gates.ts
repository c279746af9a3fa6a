import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import { joinRows, type Rows } from "../rules/cells.js";
import { type Field, isOwn, type Table } from "../schema/schema.js";
import { type Decide, flatGate, type Gate, type PlacedStep } from "./gate.js";
import { gridGate } from "./grid-gate.js";
import type { Step } from "./step.js";

/** The gates of one table for one class of equal persons. */
export interface TableGates {
  readonly table: Table;
  /** For showing records. */
  seen(action: "list" | "view"): Visibility;
  /** For actions that speak of fields. */
  fields(action: ActionName): FieldGates;
  /** For the act itself: creating, deleting, custom actions. */
  act(action: ActionName): Gate;
  /** Whether the person knows of a record: any field of it is listed or viewed. */
  readonly knows: (row: Row, reading: Reading) => boolean;
  /** The decision about one field, or without one about the record. */
  decision(action: ActionName, field: string | undefined): Decide;
  /** The gates of another table, for what is shown through a reference. */
  other(table: string): TableGates;
}

/** A gate for each field, by {@link Field.index}; equal ones are one object, listed once in `distinct`. */
export interface FieldGates {
  readonly gates: readonly Gate[];
  readonly distinct: readonly Gate[];
}

/** The gates of a table for showing it. */
export interface Visibility extends FieldGates {
  /** The distinct gates that make a record visible: of all fields but lookups, and but references made by other fields. */
  readonly visible: readonly Gate[];
}

/** The gate of an action as a whole: its rules with `yes`, or for create those that cover the act. */
export function actGate(table: Table, steps: readonly Step[]): Gate {
  const placed = steps.filter((step) => step.extent.act).map((step): PlacedStep => ({ step, rows: actRows(step) }));
  return gateFor(table, placed);
}

/** Making a row is permitted in the rows of the cells that are, and stopped in those that a range holds. */
function actRows({ phase, extent: { cells } }: Step): readonly Rows[] | undefined {
  if (cells === undefined) return undefined;
  return phase === "permit" ? joinRows([...cells.rowsOf.values()].flat()) : cells.held;
}

/** One gate for each field; fields under the same rules, in the same rows, share theirs. */
export function fieldGates(table: Table, steps: readonly Step[]): FieldGates {
  const shared = new Map<string, Gate>();
  const gates = table.fields.map((field) => {
    const placed: PlacedStep[] = [];
    const ids: string[] = [];
    for (const [index, step] of steps.entries()) {
      if (!step.extent.fields.has(field)) continue;
      const rows = step.extent.cells?.rowsOf.get(field);
      placed.push({ step, rows });
      ids.push(rows === undefined ? String(index) : `${index}:${rows.map(({ from, to }) => `${from}-${to}`)}`);
    }
    const id = ids.join(" ");
    const gate = shared.get(id) ?? gateFor(table, placed);
    shared.set(id, gate);
    return gate;
  });
  return { gates, distinct: [...shared.values()] };
}

function gateFor(table: Table, placed: readonly PlacedStep[]): Gate {
  const { grid } = table;
  const isPlaced = grid !== undefined && placed.some(({ rows }) => rows !== undefined);
  return isPlaced ? gridGate(grid.position, placed) : flatGate(placed.map(({ step }) => step));
}

export function visibility(table: Table, steps: readonly Step[]): Visibility {
  const { gates, distinct } = fieldGates(table, steps);
  const gateAt = (field: Field) => gates[field.index] as Gate;
  const visible = new Set(table.fields.filter(isOwn).map(gateAt));
  return { gates, distinct, visible: [...visible].filter((gate) => gate.hasPermits) };
}
