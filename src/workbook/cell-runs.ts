import { type CellRange, printRange } from "../rules/ranges.js";

/** Cells as rectangles: runs down each column, joined with the same run of the column before. */
export class CellRuns {
  /** By column, the rows in order. */
  readonly #rows = new Map<number, number[]>();

  add(column: number, row: number): void {
    const rows = this.#rows.get(column);
    if (rows === undefined) this.#rows.set(column, [row]);
    else rows.push(row);
  }

  ranges(): string[] {
    const blocks = new Map<string, CellRange>();
    for (const column of [...this.#rows.keys()].sort((a, b) => a - b)) {
      for (const [top, bottom] of runsOf(this.#rows.get(column) ?? [])) {
        const beside = `${column - 1} ${top} ${bottom}`;
        const joined = blocks.get(beside);
        blocks.delete(beside);
        blocks.set(`${column} ${top} ${bottom}`, { left: joined?.left ?? column, right: column, top, bottom });
      }
    }
    return [...blocks.values()].map(printRange);
  }
}

function runsOf(rows: readonly number[]): [top: number, bottom: number][] {
  const runs: [number, number][] = [];
  for (const row of [...new Set(rows)].sort((a, b) => a - b)) {
    const last = runs[runs.length - 1];
    if (last !== undefined && last[1] === row - 1) last[1] = row;
    else runs.push([row, row]);
  }
  return runs;
}
