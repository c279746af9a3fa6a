import type { ActionName } from "../rules/actions.js";
import { groupMatrix, type MatrixCell, type MatrixClass, type MatrixRow } from "../verify/matrix.js";
import type { CellDifference, CompareCell } from "../verify/matrix-differences.js";
import type { Viewer } from "../verify/viewers.js";

/** The marks of cells that differ from somebody else's. */
const differenceMarks: Readonly<Record<CellDifference, string>> = { more: ">", less: "<", other: "~" };

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
    return {
      table,
      actions: [...(own[0]?.cells.keys() ?? [])],
      lines: groupMatrix(own, compare).flatMap((one) => linesOf(one, compare)),
    };
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
function differenceLegend(baseline: string): string[] {
  return [`>: more than ${baseline}`, "<: less", "~: as much, by other conditions"];
}

/** How a matrix is to be read. */
export function matrixLegend(baseline: string | undefined): string[] {
  const legend = ["all: every record", "some: it depends on the record", "own: only through ownership", "-: none"];
  return baseline === undefined ? legend : [...legend, ...differenceLegend(baseline)];
}
