import { cellText, matrixBlocks, matrixLegend, viewerName } from "../report/matrix-lines.js";
import type { ActionName } from "../rules/actions.js";
import type { MatrixRow } from "../verify/matrix.js";
import type { CompareCell } from "../verify/matrix-differences.js";
import { bands, columns, folded } from "./columns.js";
import type { Io } from "./io.js";
import { palette } from "./paint.js";

/** A block for each table. Blocks stand under each other column by column. */
export function printMatrix(
  rows: readonly MatrixRow[],
  compare: CompareCell | undefined,
  baseline: string | undefined,
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
      const names =
        fields === undefined ? wrapNames(viewers.map(viewerName), nameWidth) : wrapNames(fields, nameWidth - 4);
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
  io.out(`${paint.quiet(folded(matrixLegend(baseline), io.width))}\n`);
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
