import type { ActionName } from "../rules/actions.js";
import { foldMatrix, type MatrixCell, type MatrixClass, type MatrixRow } from "../verify/matrix.js";
import type { CellDifference, CompareCell } from "../verify/matrix-differences.js";
import type { Viewer } from "../verify/viewers.js";
import { bands, columns, folded } from "./columns.js";
import type { Io } from "./io.js";
import { palette } from "./paint.js";

/** The marks of cells that differ from somebody else's. */
export const differenceMarks: Readonly<Record<CellDifference, string>> = { more: ">", less: "<", other: "~" };

/** A line of a block: who or which fields it is about, and one of the rows that it stands for. */
export interface MatrixLine {
  readonly viewers: readonly Viewer[];
  /** Undefined: the record as a whole. */
  readonly fields: readonly string[] | undefined;
  readonly row: MatrixRow;
}

/** A matrix in blocks, one for each table; viewers with the same cells share lines, and so do fields of theirs. */
export function matrixBlocks(
  rows: readonly MatrixRow[],
  compare?: CompareCell,
): { readonly table: string; readonly actions: readonly ActionName[]; readonly lines: readonly MatrixLine[] }[] {
  const tables = [...new Set(rows.map(({ table }) => table))];
  return tables.map((table) => {
    const own = rows.filter((row) => row.table === table);
    return { table, actions: [...(own[0]?.cells.keys() ?? [])], lines: foldMatrix(own, compare).flatMap((one) => linesOf(one, compare)) };
  });
}

function linesOf({ viewers, rows }: MatrixClass, compare: CompareCell | undefined): MatrixLine[] {
  const lines: MatrixLine[] = [];
  const byLook = new Map<string, { viewers: readonly Viewer[]; fields: string[]; row: MatrixRow }>();
  for (const row of rows) {
    if (row.field === undefined) {
      lines.push({ viewers, fields: undefined, row });
      continue;
    }
    const look = JSON.stringify([...row.cells].map(([action, cell]) => [action, cell, compare?.(row, action)]));
    const found = byLook.get(look);
    if (found !== undefined) found.fields.push(row.field);
    else {
      const line = { viewers, fields: [row.field], row };
      byLook.set(look, line);
      lines.push(line);
    }
  }
  return lines;
}

export function viewerName({ kind, name, id }: Viewer): string {
  return kind === "person" ? name : id;
}

export function cellText(cell: MatrixCell | undefined, difference?: CellDifference): string {
  if (cell === undefined) return "";
  const text = cell.reach === "none" ? "-" : cell.count === undefined ? cell.reach : `${cell.reach} ${cell.count}`;
  return difference === undefined ? text : `${text} ${differenceMarks[difference]}`;
}

/** How marks are to be read, for a matrix that is compared with somebody. */
export function differenceLegend(beside: string): string[] {
  return [`>: more than ${beside}`, "<: less", "~: as much, by other conditions"];
}

/** A block for each table. Blocks stand under each other column by column. */
export function printMatrix(
  rows: readonly MatrixRow[],
  compare: CompareCell | undefined,
  beside: string | undefined,
  io: Io,
): void {
  const paint = palette(io);
  const blocks = matrixBlocks(rows, compare);
  const textOf = (row: MatrixRow, action: ActionName) => cellText(row.cells.get(action), compare?.(row, action));
  const widths = new Map<ActionName, number>();
  for (const { lines, actions } of blocks) {
    for (const { row } of lines) {
      for (const action of actions) {
        widths.set(action, Math.max(widths.get(action) ?? 6, action.length, textOf(row, action).length));
      }
    }
  }
  for (const { table, actions, lines } of blocks) {
    const cellWidths = actions.map((action) => widths.get(action) ?? action.length);
    const room = io.width - cellWidths.reduce((sum, size) => sum + size + 2, 2);
    const nameWidth = Math.max(22, Math.min(60, room));
    const body = lines.flatMap(({ viewers, fields, row }) => {
      const names = fields === undefined ? wrapNames(viewers.map(viewerName), nameWidth) : wrapNames(fields, nameWidth - 4);
      const [first = "", ...more] = fields === undefined ? names : names.map((name) => `    ${paint.quiet(name)}`);
      const marks = actions.map((action) => {
        const cell = row.cells.get(action);
        return cell === undefined ? "" : paint.reach(cell.reach, textOf(row, action));
      });
      return [[first, ...marks], ...more.map((name) => [name, ...actions.map(() => "")])];
    });
    const headings = [paint.heading(table), ...actions.map((name) => paint.quiet(name))];
    const printed =
      room >= nameWidth
        ? columns(headings, body, io.width, [nameWidth, ...cellWidths])
        : bands(headings, body, io.width, 1);
    io.out(`${printed}\n`);
  }
  const legend = [
    ...["all: every record", "some: it depends on the record", "own: only through ownership", "-: none"],
    ...(beside === undefined ? [] : differenceLegend(beside)),
  ];
  io.out(`${paint.quiet(folded(legend, io.width))}\n`);
}

/** Of many equal persons so many are named. */
const mostNames = 40;

function wrapNames(all: readonly string[], width: number): string[] {
  const names = all.length > mostNames ? [...all.slice(0, mostNames), `and ${all.length - mostNames} more`] : all;
  const lines: string[] = [];
  for (const name of names) {
    const last = lines[lines.length - 1];
    if (last !== undefined && last.length + name.length + 2 <= width) lines[lines.length - 1] = `${last}, ${name}`;
    else lines.push(name);
  }
  return lines.map((line, index) => (index < lines.length - 1 ? `${line},` : line));
}
