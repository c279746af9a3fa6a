import { always, and, type Expression, or } from "../conditions/expression.js";
import { compileRead, type Read, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { hasRow, isPlace, type Rows } from "../rules/cells.js";
import type { Field } from "../schema/schema.js";
import { notPermitted } from "./decision.js";
import {
  type FlatGate,
  flatGate,
  type Gate,
  gateCondition,
  isWithoutBecomes,
  judgeSteps,
  type PlacedStep,
} from "./gate.js";
import { anyReach, type Reach } from "./reach.js";
import { RowSegments } from "./row-segments.js";
import { appliesOnTheWayIn, appliesToChange, cheapFirst, type Step } from "./step.js";

/**
 * The gate of a grid's column. The rows fall into segments at the borders of its ranges; in each, the same steps count,
 * and a flat gate judges them. A segment is looked up, so a decision does not walk over the ranges.
 */
export function gridGate(position: Field, placed: readonly PlacedStep[]): Gate {
  const rowSegments = new RowSegments(placed.flatMap(({ rows }) => rows ?? []));
  const { borders } = rowSegments;
  const segments: (FlatGate | undefined)[] = [];
  const numbers = new Map(placed.map(({ step }, index) => [step, index]));
  const shared = new Map<string, FlatGate>();
  // A place that is not known is held by every block and confirm, and given away by no permit.
  const held = placed.filter(({ step, rows }) => rows === undefined || step.phase !== "permit").map(({ step }) => step);
  const unknownPlace = flatGate(held);
  const readPosition: Read = compileRead({ kind: "field", type: position.type, path: [position] });

  const segment = (index: number): FlatGate => {
    let gate = segments[index];
    if (gate === undefined) {
      const row = borders[index] as number;
      const counting = placed.filter(({ rows }) => rows === undefined || hasRow(rows, row)).map(({ step }) => step);
      // Between ranges, and in parts of one, the same rules count.
      const key = counting.map((step) => numbers.get(step)).join(" ");
      gate = shared.get(key) ?? flatGate(counting);
      shared.set(key, gate);
      segments[index] = gate;
    }
    return gate;
  };
  const at = (row: Row, reading: Reading): FlatGate => {
    const place = readPosition(row, reading);
    return isPlace(place) ? segment(rowSegments.of(place)) : unknownPlace;
  };
  const change: Gate["change"] = (before, after, reading, later) => {
    const from = at(before, reading);
    const to = at(after, later);
    const isUnplaced = from === unknownPlace || to === unknownPlace;
    const stays = new Set(from.steps);
    const arrives = new Set(to.steps);
    const applies = (step: Step): boolean => {
      if (step.isCrossing) {
        const leaves = stays.has(step);
        if (leaves && arrives.has(step) && !isUnplaced) return false;
        if (leaves && appliesToChange(step, before, after, reading, later)) return true;
        return arrives.has(step) && appliesOnTheWayIn(step, before, after, reading, later);
      }
      if (stays.has(step) && appliesToChange(step, before, after, reading, later)) {
        return step.phase !== "permit" || arrives.has(step);
      }
      const isMovedIn = step.phase !== "permit" && arrives.has(step) && !stays.has(step);
      return isMovedIn && appliesOnTheWayIn(step, before, after, reading, later);
    };
    const more = to === from ? [] : to.steps.filter((step) => !stays.has(step));
    const blocks = [...from.blocks, ...more.filter((step) => step.phase === "block")].sort(cheapFirst);
    const confirms = [...from.confirms, ...more.filter((step) => step.phase === "confirm")];
    const phases = { blocks, permits: from.permits, confirms };
    const decision = judgeSteps(phases, applies, before, after, reading, later);
    return decision === notPermitted ? from.denial(before, reading) : decision;
  };
  return {
    placed,
    reads: -1,
    decide: (row, reading) => at(row, reading).decide(row, reading),
    attempt: (row, reading) => at(row, reading).attempt(row, reading),
    change,
    condition: () => placedCondition(position, placed),
    attemptCondition: () =>
      placedCondition(
        position,
        placed.filter(({ step }) => step.phase !== "block" || isWithoutBecomes(step)),
      ),
    get reach(): Reach {
      if (placed.every(({ step }) => step.phase !== "permit")) return "none";
      if (borders.length > 200) return "some";
      const reaches = [unknownPlace.reach, ...borders.map((_, index) => segment(index).reach)];
      const [first = "none"] = reaches;
      if (reaches.every((reach) => reach === first)) return first;
      return anyReach(reaches) === "own" ? "own" : "some";
    },
    hasPermits: placed.some(({ step }) => step.phase === "permit"),
    wouldPermit: (row, reading) => at(row, reading).wouldPermit(row, reading),
  };
}

/**
 * What decides in any row: each step counts where the position is among its rows; a block also where it is that of no
 * row, as a comparison with null counts for it.
 */
function placedCondition(position: Field, placed: readonly PlacedStep[]): Expression {
  const of = (phase: Step["phase"]) =>
    placed
      .filter(({ step }) => step.phase === phase)
      .map(({ step, rows }) => {
        if (rows === undefined) return step.before;
        const among = isAmong(position, rows);
        return and([phase === "permit" ? among : or([among, isBelowRows(position)]), step.before]);
      });
  return gateCondition(of("block"), of("permit"));
}

/** Rows are counted from 1. */
export function isBelowRows(position: Field): Expression {
  const { type } = position;
  return {
    kind: "compare",
    op: "<",
    left: { kind: "field", type, path: [position] },
    right: { kind: "constant", type, value: 1 },
  };
}

export function isAmong(position: Field, rows: readonly Rows[]): Expression {
  const { type } = position;
  const bound = (op: "<=" | ">=", value: number): Expression =>
    Number.isFinite(value)
      ? {
          kind: "compare",
          op,
          left: { kind: "field", type, path: [position] },
          right: { kind: "constant", type, value },
        }
      : always;
  return or(rows.map(({ from, to }) => and([bound(">=", from), bound("<=", to)])));
}
