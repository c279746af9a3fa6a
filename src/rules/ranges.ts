/**
 * Cell ranges in A1 notation as in OpenFormula (ISO/IEC 26300-2): `B2:F40`, `C7`, `G:G`, `2:2`, and open ones: `A2:E`
 * (downwards) and `H:` (this column and all to its right). Columns and rows count from 1; `Infinity` is an open end.
 * Plain data and pure functions; nothing here knows of tables.
 */
export interface CellRange {
  readonly left: number;
  readonly right: number;
  readonly top: number;
  readonly bottom: number;
}

const lastColumn = 18_278; // ZZZ
const lastRow = 2_147_483_647;

const corner = /^\$?([A-Za-z]{1,3})?\$?([1-9]\d{0,9})?$/;

/**
 * Reads a range; undefined for what is none. The corners may stand in any order.
 *
 * @example
 * parseRange("B2:A1"); // { left: 1, right: 2, top: 1, bottom: 2 }
 * parseRange("G"); // undefined: a column is written G:G
 */
export function parseRange(text: string): CellRange | undefined {
  const parts = text.trim().split(":");
  const [from = "", to] = parts;
  if (parts.length > 2 || from === "") return undefined;
  const first = parseCorner(from);
  if (first === undefined) return undefined;
  if (to === undefined) {
    // One cell; a column or a row alone would be ambiguous, and is written twice: `G:G`.
    const { column, row } = first;
    return column === undefined || row === undefined
      ? undefined
      : { left: column, right: column, top: row, bottom: row };
  }
  if (to === "") {
    return first.column === undefined || first.row !== undefined
      ? undefined
      : { left: first.column, right: Number.POSITIVE_INFINITY, top: 1, bottom: Number.POSITIVE_INFINITY };
  }
  const second = parseCorner(to);
  return second && between(first, second);
}

interface Corner {
  readonly column: number | undefined;
  readonly row: number | undefined;
}

function parseCorner(text: string): Corner | undefined {
  const found = corner.exec(text.trim());
  const [, letters, digits] = found ?? [];
  if (found === null || (letters === undefined && digits === undefined)) return undefined;
  const column = letters === undefined ? undefined : columnNumber(letters);
  const row = digits === undefined ? undefined : Number(digits);
  if ((column ?? 1) > lastColumn || (row ?? 1) > lastRow) return undefined;
  return { column, row };
}

function between(first: Corner, second: Corner): CellRange | undefined {
  const open = Number.POSITIVE_INFINITY;
  const columns = [first.column, second.column].filter((one) => one !== undefined);
  const rows = [first.row, second.row].filter((one) => one !== undefined);
  // `2:2` has no columns, `G:G` no rows, `A2:E` is open downwards; `A2:5` means nothing.
  if (columns.length === 1 || (rows.length === 1 && (columns.length === 0 || first.row === undefined)))
    return undefined;
  return {
    left: columns.length === 0 ? 1 : Math.min(...columns),
    right: columns.length === 0 ? open : Math.max(...columns),
    top: rows.length === 0 ? 1 : Math.min(...rows),
    bottom: rows.length === 2 ? Math.max(...rows) : open,
  };
}

/** `A` is 1, `Z` 26, `AA` 27. */
export function columnNumber(letters: string): number {
  let number = 0;
  for (const letter of letters.toUpperCase()) number = number * 26 + (letter.charCodeAt(0) - 64);
  return number;
}

/** The letters of a column, counted from 1: 1 is `A`, 28 is `AB`. */
export function columnLetters(number: number): string {
  let letters = "";
  for (let rest = number; rest > 0; rest = Math.floor((rest - 1) / 26)) {
    letters = String.fromCharCode(65 + ((rest - 1) % 26)) + letters;
  }
  return letters;
}

/** The shortest spelling that {@link parseRange} reads as this range. */
export function printRange({ left, right, top, bottom }: CellRange): string {
  const isOpen = (end: number) => end === Number.POSITIVE_INFINITY;
  if (isOpen(right) && isOpen(bottom) && top === 1) return `${columnLetters(left)}:`;
  if (isOpen(right) && left === 1 && !isOpen(bottom)) return `${top}:${bottom}`;
  if (isOpen(right)) return `${columnLetters(left)}${top}:${columnLetters(lastColumn)}${isOpen(bottom) ? "" : bottom}`;
  if (isOpen(bottom)) return `${columnLetters(left)}${top === 1 ? "" : top}:${columnLetters(right)}`;
  const from = `${columnLetters(left)}${top}`;
  const to = `${columnLetters(right)}${bottom}`;
  return from === to ? from : `${from}:${to}`;
}

/** Whether two ranges have a cell in common. */
export function overlaps(a: CellRange, b: CellRange): boolean {
  return a.left <= b.right && b.left <= a.right && a.top <= b.bottom && b.top <= a.bottom;
}

/** A change of a sheet's rows or columns. `at` is the first one (1-based); `move` puts them before what was at `to`. */
export type SheetChange =
  | { readonly kind: "insert"; readonly of: "rows" | "columns"; readonly at: number; readonly count: number }
  | { readonly kind: "delete"; readonly of: "rows" | "columns"; readonly at: number; readonly count: number }
  | {
      readonly kind: "move";
      readonly of: "rows" | "columns";
      readonly at: number;
      readonly count: number;
      readonly to: number;
    };

/**
 * Where a range is after a change, as in a spreadsheet: before the range, it shifts; inside, it grows or shrinks; a range
 * of which nothing is left is undefined. Rows and columns moved out of a range leave it smaller (see {@link movedOut}),
 * those moved into its middle make it larger, those moved inside of it leave it as it is; one that is moved whole goes along.
 */
export function moveRange(range: CellRange, change: SheetChange): CellRange | undefined {
  const isRows = change.of === "rows";
  const span = isRows ? moveSpan(range.top, range.bottom, change) : moveSpan(range.left, range.right, change);
  if (span === undefined) return undefined;
  const [first, last] = span;
  return isRows ? { ...range, top: first, bottom: last } : { ...range, left: first, right: last };
}

/** The cells of a range that a move takes out of it; undefined where it takes none. */
export function movedOut(range: CellRange, change: SheetChange): CellRange | undefined {
  if (change.kind !== "move") return undefined;
  const isRows = change.of === "rows";
  const own: Span = isRows ? [range.top, range.bottom] : [range.left, range.right];
  const first = Math.max(own[0], change.at);
  const last = Math.min(own[1], change.at + change.count - 1);
  if (first > last) return undefined;
  const by = moveBy(change);
  const after = moveSpan(...own, change);
  if (after !== undefined && after[0] <= first + by && last + by <= after[1]) return undefined;
  return isRows ? { ...range, top: first, bottom: last } : { ...range, left: first, right: last };
}

type Span = readonly [first: number, last: number];

/** By how much rows that move do so: when they are put behind where they were, they leave a gap that is closed. */
function moveBy({ at, count, to }: Extract<SheetChange, { kind: "move" }>): number {
  if (to >= at && to <= at + count) return 0;
  return (to > at ? to - count : to) - at;
}

function moveSpan(first: number, last: number, change: SheetChange): Span | undefined {
  const { at, count } = change;
  switch (change.kind) {
    case "insert":
      return insertSpan(first, last, at, count);
    case "delete":
      return deleteSpan(first, last, at, count);
    case "move": {
      const { to } = change;
      const by = moveBy(change);
      // The whole range is among what moves.
      if (first >= at && last < at + count) return [first + by, last + by];
      const staysInside = at >= first && at + count - 1 <= last && to >= first && to <= last + 1;
      if (by === 0 || staysInside) return [first, last];
      const rest = deleteSpan(first, last, at, count);
      return rest === undefined ? undefined : insertSpan(rest[0], rest[1], at + by, count);
    }
    default:
      return change satisfies never;
  }
}

/** A range from the very first row on (a whole column) stays from the first on. */
function insertSpan(first: number, last: number, at: number, count: number): Span {
  const isWhole = first === 1 && last === Number.POSITIVE_INFINITY;
  if (isWhole || at > last) return [first, last];
  return at <= first ? [first + count, last + count] : [first, last + count];
}

function deleteSpan(first: number, last: number, at: number, count: number): Span | undefined {
  if (first === 1 && last === Number.POSITIVE_INFINITY) return [first, last];
  const end = at + count - 1;
  const before = Math.max(0, Math.min(end, first - 1) - at + 1);
  const inside = Math.max(0, Math.min(end, last) - Math.max(at, first) + 1);
  const left = last - first + 1 - inside;
  return left <= 0 ? undefined : [first - before, last - before - inside];
}
