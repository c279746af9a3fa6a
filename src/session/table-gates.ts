import type { Expression } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { Yes } from "../conditions/yes.js";
import type { ActionTree, GateNode, TreeWay } from "../rules/action-tree.js";
import type { ActionName } from "../rules/actions.js";
import { joinRows, type Rows } from "../rules/cells.js";
import type { Field, Table } from "../schema/schema.js";
import { type Decide, flatGate, type Gate, type PlacedData } from "./gate.js";
import { gridGate } from "./grid-gate.js";
import { cheapFirst, type ReadyStep, type StepData } from "./step.js";

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

/** The gate of an action as a whole: its rules with `yes`, or for create those that cover the act. */
export function actionGate(table: Table, steps: readonly StepData[], ready: ReadyStep): Gate {
  const acts = steps.filter(({ extent }) => extent.act);
  return gateFor(
    table,
    acts.map((data): PlacedData => ({ data, rows: actRows(data) })),
    ready,
  );
}

/** Making a row is permitted in the rows of the cells that are, and stopped in those that a range holds. */
function actRows({ effect, extent: { cells } }: StepData): readonly Rows[] | undefined {
  if (cells === undefined) return undefined;
  return effect === "permit" ? joinRows([...cells.rowsOf.values()].flat()) : cells.held;
}

/** The gates of a table's fields, each made when it is first asked for; fields under the same rules share one. */
export class FieldGates {
  readonly #table: Table;
  readonly #ready: ReadyStep;
  /** By {@link Field.index}. */
  readonly #placed: readonly NumberedStep[][];
  readonly #shared = new Map<string, Gate>();
  readonly #gates: (Gate | undefined)[] = [];

  constructor(table: Table, steps: readonly StepData[], ready: ReadyStep) {
    this.#table = table;
    this.#ready = ready;
    this.#placed = table.fields.map(() => []);
    for (let number = 0; number < steps.length; number++) {
      const data = steps[number] as StepData;
      for (const field of data.extent.fields) {
        this.#placed[field.index]?.push({ data, rows: data.extent.cells?.rowsOf.get(field), number });
      }
    }
  }

  of({ index }: Field): Gate {
    const known = this.#gates[index];
    if (known !== undefined) return known;
    const placed = this.#placed[index] ?? [];
    const id = placed.map(idOf).join(" ");
    const gate = this.#shared.get(id) ?? gateFor(this.#table, placed, this.#ready);
    this.#shared.set(id, gate);
    this.#gates[index] = gate;
    return gate;
  }
}

interface NumberedStep extends PlacedData {
  readonly number: number;
}

function idOf({ number, rows }: NumberedStep): string {
  return rows === undefined ? String(number) : `${number}:${rows.map(({ from, to }) => `${from}-${to}`)}`;
}

function gateFor(table: Table, placed: readonly PlacedData[], ready: ReadyStep): Gate {
  const { grid } = table;
  const isPlaced = grid !== undefined && placed.some(({ rows }) => rows !== undefined);
  return isPlaced
    ? gridGate(grid.position, placed, ready)
    : flatGate(placed.map(({ data }) => ready(data)).sort(cheapFirst));
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
