import type { Rows } from "../rules/cells.js";

/** The rows of a grid, cut at the borders of ranges: in one segment the same ranges count for each row. */
export class RowSegments {
  /** The first row of each segment, in order. The first segment begins before every row. */
  readonly borders: readonly number[];
  /** For each stretch of `#size` rows the segment at its first row, so that few borders are left to look at. */
  readonly #starts: readonly number[];
  readonly #size: number;
  readonly #from: number;
  readonly #last: number;

  constructor(ranges: readonly Rows[]) {
    const borders = new Set<number>([Number.NEGATIVE_INFINITY]);
    for (const { from, to } of ranges) {
      borders.add(from);
      if (to !== Number.POSITIVE_INFINITY) borders.add(to + 1);
    }
    this.borders = [...borders].sort((a, b) => a - b);
    const [, from = 0] = this.borders;
    const length = (this.borders.at(-1) as number) - from;
    this.#from = from;
    this.#size = 2 ** Math.max(0, Math.ceil(Math.log2((length + 1) / this.borders.length)));
    this.#last = this.borders.length - 1;
    const starts: number[] = [];
    for (let row = from; row <= from + length; row += this.#size)
      starts.push(this.#search(row, 0, this.borders.length - 1));
    this.#starts = starts;
  }

  /** The segment that a row lies in. */
  of(row: number): number {
    const last = this.#last;
    if (row < this.#from || last === 0) return 0;
    const stretch = Math.floor((row - this.#from) / this.#size);
    if (stretch >= this.#starts.length) return last;
    return this.#search(row, this.#starts[stretch] as number, this.#starts[stretch + 1] ?? last);
  }

  /** The last border that is not behind the row, among some. */
  #search(row: number, from: number, to: number): number {
    let low = from;
    let high = to;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if ((this.borders[middle] as number) <= row) low = middle;
      else high = middle - 1;
    }
    return low;
  }
}
