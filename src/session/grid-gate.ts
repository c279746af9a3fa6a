import { always, and, type Expression, or } from "../conditions/expression.js";
import { compileRead, type Read, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { isPlace, joinRows, type Rows } from "../rules/cells.js";
import { effects } from "../rules/effects.js";
import type { Field } from "../schema/schema.js";
import { notPermitted } from "./decision.js";
import {
  type FlatGate,
  flatGate,
  type Gate,
  gateCondition,
  isWithoutBecomes,
  judgeSteps,
  type PlacedData,
  type PlacedStep,
} from "./gate.js";
import { anyReach, type Reach } from "./reach.js";
import { RowIndex } from "./row-index.js";
import { RowSegments } from "./row-segments.js";
import { appliesOnTheWayIn, appliesToChange, cheapFirst, type ReadyStep, type Step } from "./step.js";

/**
 * The gate of a grid's column. The rows fall into segments at the borders of its ranges; in each, the same steps count,
 * and a flat gate judges them. A segment is looked up, so a decision does not walk over the ranges; and it is made when
 * somebody first asks about a row in it, so a session does not wait for those that nobody asks about.
 */
export function gridGate(position: Field, placed: readonly PlacedData[], ready: ReadyStep): Gate {
  let rowSegments: RowSegments | undefined;
  let index: RowIndex<number> | undefined;
  const segments: (FlatGate | undefined)[] = [];
  const shared = new Map<string, FlatGate>();
  const isPermit = ({ data }: PlacedData) => effects[data.effect].phase === "permit";
  const readPosition: Read = compileRead({ kind: "field", type: position.type, path: [position] });
  const everywhere = placed.flatMap(({ rows }, number) => (rows === undefined ? [number] : []));
  const byRows = () => placed.flatMap(({ rows = [] }, number) => rows.map((one) => ({ rows: one, value: number })));

  const flat = (numbers: readonly number[]): FlatGate =>
    flatGate(numbers.map((number) => ready((placed[number] as PlacedData).data)).sort(cheapFirst));
  const made = (number: number): FlatGate => {
    rowSegments ??= new RowSegments(placed.flatMap(({ rows }) => rows ?? []));
    index ??= new RowIndex(byRows());
    const counting = [...everywhere, ...index.at(rowSegments.borders[number] as number)].sort((a, b) => a - b);
    // Between ranges, and in parts of one, the same rules count.
    const key = counting.join(" ");
    const gate = shared.get(key) ?? flat(counting);
    shared.set(key, gate);
    segments[number] = gate;
    return gate;
  };
  const segment = (number: number): FlatGate => segments[number] ?? made(number);
  const segmentOf = (row: number): FlatGate => {
    rowSegments ??= new RowSegments(placed.flatMap(({ rows }) => rows ?? []));
    return segment(rowSegments.of(row));
  };
  // A place that is not known is held by every block and confirm, and given away by no permit.
  let unknown: FlatGate | undefined;
  const unknownPlace = (): FlatGate => {
    unknown ??= flat(placed.flatMap((one, number) => (one.rows === undefined || !isPermit(one) ? [number] : [])));
    return unknown;
  };
  const steps = () =>
    placed
      .map(({ data, rows }): PlacedStep => ({ step: ready(data), rows }))
      .sort((a, b) => cheapFirst(a.step, b.step));
  const at = (row: Row, reading: Reading): FlatGate => {
    const place = readPosition(row, reading);
    return isPlace(place) ? segmentOf(place) : unknownPlace();
  };
  const change: Gate["change"] = (before, after, reading, later) => {
    const from = at(before, reading);
    const to = at(after, later);
    const isUnplaced = unknown !== undefined && (from === unknown || to === unknown);
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
    get placed() {
      return steps();
    },
    reads: -1,
    isPlaced: true,
    decide: (row, reading) => at(row, reading).decide(row, reading),
    attempt: (row, reading) => at(row, reading).attempt(row, reading),
    change,
    condition: () => placedCondition(position, steps()),
    attemptCondition: () =>
      placedCondition(
        position,
        steps().filter(({ step }) => step.phase !== "block" || isWithoutBecomes(step)),
      ),
    get reach(): Reach {
      if (!placed.some(isPermit)) return "none";
      rowSegments ??= new RowSegments(placed.flatMap(({ rows }) => rows ?? []));
      const { borders } = rowSegments;
      if (borders.length > 200) return "some";
      const reaches = [unknownPlace().reach, ...borders.map((_, index) => segment(index).reach)];
      const [first = "none"] = reaches;
      if (reaches.every((reach) => reach === first)) return first;
      return anyReach(reaches) === "own" ? "own" : "some";
    },
    hasPermits: placed.some(isPermit),
    wouldPermit: (row, reading) => at(row, reading).wouldPermit(row, reading),
  };
}

/**
 * What decides in any row: each step counts where the position is among its rows; a block also where it is that of no
 * row, as a comparison with null counts for it.
 */
function placedCondition(position: Field, placed: readonly PlacedStep[]): Expression {
  const of = (phase: Step["phase"]) =>
    together(placed.filter(({ step }) => step.phase === phase)).map(({ step, rows }) => {
      if (rows === undefined) return step.before;
      const among = isAmong(position, rows);
      return and([phase === "permit" ? among : or([among, isBelowRows(position)]), step.before]);
    });
  return gateCondition(of("block"), of("permit"));
}

/** Steps that ask nothing but where a row stands are one, however many ranges people protect. */
function together(placed: readonly PlacedStep[]): readonly PlacedStep[] {
  const isPlain = ({ step, rows }: PlacedStep) =>
    rows !== undefined && step.before.kind === "truth" && step.before.value === True;
  const plain = placed.filter(isPlain);
  const [first] = plain;
  if (first === undefined || plain.length < 2) return placed;
  const rows = joinRows(plain.flatMap((one) => one.rows ?? []));
  return [{ step: first.step, rows }, ...placed.filter((one) => !isPlain(one))];
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
