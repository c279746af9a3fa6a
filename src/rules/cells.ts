import { type Part, readTexts } from "../schema/reader.js";
import type { Field, Grid, Table } from "../schema/schema.js";
import { type CellRange, columnLetters, parseRange } from "./ranges.js";

/** Whole numbers from `from` to `to`, both included; `Infinity` is an open end. */
export interface Rows {
  readonly from: number;
  readonly to: number;
}

/** The cells of an extent. Lists of rows are in order and do not touch. */
export interface CellArea {
  readonly rowsOf: ReadonlyMap<Field, readonly Rows[]>;
  /** The rows of ranges that are bounded downwards: moving, deleting and making these rows is held with their cells. */
  readonly held: readonly Rows[];
  /** The same of each range by itself: a row that is moved from one into another leaves the first. */
  readonly heldRanges: readonly (readonly Rows[])[];
  /** As written, names put out in A1; for lists of ranges. */
  readonly ranges: readonly CellRange[];
  readonly except: readonly CellRange[];
}

/** Reads `{ cells: [...], except: [...] }`; undefined after a problem. `named` are the table's named ranges. */
export function readCells(
  cells: Part,
  except: Part | undefined,
  table: Table,
  named: ReadonlyMap<string, CellRange>,
): CellArea | undefined {
  const { grid } = table;
  if (grid === undefined) {
    cells.problems.add("no-grid", { table: table.name }, cells.path);
    return undefined;
  }
  const included = readRanges(cells, grid, named);
  const excluded = except === undefined ? [] : readRanges(except, grid, named);
  if (included === undefined || excluded === undefined || included.length === 0) return undefined;
  return cellArea(grid, included, excluded);
}

function readRanges(part: Part, grid: Grid, named: ReadonlyMap<string, CellRange>): readonly CellRange[] | undefined {
  const ranges: CellRange[] = [];
  const entries = readTexts(part, "cells");
  for (const entry of entries) {
    const text = entry.value as string;
    const range = named.get(text) ?? readRange(entry, text, grid, named.keys());
    if (range !== undefined) ranges.push(range);
  }
  if (Array.isArray(part.value) && part.value.length === 0) {
    part.problems.add("wrong-shape", { what: "cells", expected: "at least one range", found: [] }, part.path);
  }
  return ranges.length === entries.length && entries.length > 0 ? ranges : undefined;
}

/** Reads one range of a grid, and checks that it begins within the columns. */
export function readRange(part: Part, text: string, grid: Grid, names: Iterable<string>): CellRange | undefined {
  const range = parseRange(text);
  if (range === undefined) {
    part.problems.add("bad-range", { found: text, names: [...names] }, part.path);
    return undefined;
  }
  const last = grid.columns.length;
  const isOpen = range.right === Number.POSITIVE_INFINITY;
  // An open range may begin behind the last column: it is for columns that are added later.
  if (!isOpen && range.right > last) {
    part.problems.add("range-outside", { found: text, last: columnLetters(last) }, part.path);
    return undefined;
  }
  return range;
}

/** What ranges of a grid cover, but for some cells. */
export function cellArea(grid: Grid, ranges: readonly CellRange[], except: readonly CellRange[]): CellArea {
  const [only] = ranges;
  if (only !== undefined && ranges.length === 1 && except.length === 0) return areaOfOne(grid, only);
  const rowsOf = new Map<Field, readonly Rows[]>();
  const bounded = ranges.filter(({ bottom }) => bottom !== Number.POSITIVE_INFINITY);
  const heldBy = new Map<CellRange, Rows[]>(bounded.map((range) => [range, []]));
  // Only the columns that any range reaches: a protection of one cell is not looked for in all others.
  const first = Math.min(...ranges.map(({ left }) => left));
  const last = Math.min(grid.columns.length, Math.max(...ranges.map(({ right }) => right)));
  for (let column = first; column <= last; column++) {
    const field = grid.columns[column - 1] as Field;
    const inColumn = (range: CellRange) => range.left <= column && column <= range.right;
    const rows = (list: readonly CellRange[]) => list.map(({ top, bottom }) => ({ from: top, to: bottom }));
    const out = joinRows(rows(except.filter(inColumn)));
    const covered = withoutRows(joinRows(rows(ranges.filter(inColumn))), out);
    if (covered.length > 0) rowsOf.set(field, covered);
    for (const range of bounded) if (inColumn(range)) heldBy.get(range)?.push(...withoutRows(rows([range]), out));
  }
  const heldRanges = [...heldBy.values()].map(joinRows).filter((held) => held.length > 0);
  return { rowsOf, held: joinRows(heldRanges.flat()), heldRanges, ranges, except };
}

/** The same of one range: most are, and there may be thousands. */
function areaOfOne(grid: Grid, range: CellRange): CellArea {
  const { left, right, top, bottom } = range;
  const rows: readonly Rows[] = [{ from: top, to: bottom }];
  const covered = grid.columns.slice(left - 1, Math.min(right, grid.columns.length));
  const held = bottom === Number.POSITIVE_INFINITY || covered.length === 0 ? [] : rows;
  const rowsOf = new Map(covered.map((field) => [field, rows]));
  return { rowsOf, held, heldRanges: held.length === 0 ? [] : [held], ranges: [range], except: [] };
}

/** In order, and what overlaps or touches put together. */
export function joinRows(rows: readonly Rows[]): readonly Rows[] {
  const joined: Rows[] = [];
  for (const one of [...rows].sort((a, b) => a.from - b.from)) {
    const last = joined[joined.length - 1];
    if (last !== undefined && one.from <= last.to + 1) {
      joined[joined.length - 1] = { from: last.from, to: Math.max(last.to, one.to) };
    } else joined.push(one);
  }
  return joined;
}

function withoutRows(rows: readonly Rows[], out: readonly Rows[]): readonly Rows[] {
  let left = rows;
  for (const { from, to } of out) {
    left = left.flatMap((one) => [
      ...(one.from < from ? [{ from: one.from, to: Math.min(one.to, from - 1) }] : []),
      ...(one.to > to ? [{ from: Math.max(one.from, to + 1), to: one.to }] : []),
    ]);
  }
  return left;
}

/** Whether a position is one that a row can have: they are counted from 1. */
export function isPlace(position: unknown): position is number {
  return typeof position === "number" && position >= 1;
}

/** Whether a row is among ordered rows; binary search. */
export function hasRow(rows: readonly Rows[], row: number): boolean {
  let low = 0;
  let high = rows.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((rows[middle] as Rows).to < row) low = middle + 1;
    else high = middle;
  }
  return low < rows.length && (rows[low] as Rows).from <= row;
}
