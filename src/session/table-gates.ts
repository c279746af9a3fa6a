import type { Expression } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { Yes } from "../conditions/yes.js";
import type { ActionTree, GateNode, TreeWay } from "../rules/action-tree.js";
import type { ActionName } from "../rules/actions.js";
import { joinRows, type Rows } from "../rules/cells.js";
import type { Field, Table } from "../schema/schema.js";
import { type Decide, flatGate, type Gate, type PlacedStep } from "./gate.js";
import { gridGate } from "./grid-gate.js";
import type { Step } from "./step.js";

/** The gates of one table for one class of equal persons. */
export interface TableGates {
  readonly table: Table;
  /** The gate of a tree's node. */
  gate(node: GateNode): Gate;
  /** Whether a condition holds; one that is put otherwise, or said twice, is made ready once. */
  yes(condition: Expression): Yes;
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

/** Of the ways of a tree those that can permit at all; fields under the same rules are one. */
export function distinctWays(gates: TableGates, ways: readonly TreeWay[]): readonly TreeWay[] {
  const ids = new Map<object, number>();
  const numberOf = (one: object): number => {
    const id = ids.get(one) ?? ids.size;
    ids.set(one, id);
    return id;
  };
  const idOf = (tree: ActionTree): unknown => {
    switch (tree.kind) {
      case "gate":
        return numberOf(gates.gate(tree));
      case "all":
        return tree.parts.map(idOf);
      case "any":
        return { any: tree.ways.map((way) => idOf(way.tree)) };
      default:
        return { one: numberOf(tree) };
    }
  };
  const seen = new Set<string>();
  return ways.filter((way) => {
    if (!gates.gate(way.gate).hasPermits) return false;
    const id = JSON.stringify(idOf(way.tree));
    return !seen.has(id) && seen.add(id);
  });
}
