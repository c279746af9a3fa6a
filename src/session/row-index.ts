import type { Rows } from "../rules/cells.js";

/** Something that counts in some rows of a grid. */
export interface Placed<T> {
  readonly rows: Rows;
  readonly value: T;
}

/**
 * Finds what counts in a row without looking at all of it: a balanced tree of ranges in the order of their first rows, each
 * node with the last row of all below it (an interval tree).
 */
export class RowIndex<T> {
  readonly #sorted: readonly Placed<T>[];
  readonly #last: Float64Array;

  constructor(placed: readonly Placed<T>[]) {
    this.#sorted = [...placed].sort((a, b) => a.rows.from - b.rows.from);
    this.#last = new Float64Array(placed.length);
    this.#measure(0, placed.length);
  }

  at(row: number): T[] {
    const found: T[] = [];
    this.#collect(row, 0, this.#sorted.length, found);
    return found;
  }

  #measure(low: number, high: number): number {
    if (low >= high) return Number.NEGATIVE_INFINITY;
    const middle = (low + high) >> 1;
    const { to } = (this.#sorted[middle] as Placed<T>).rows;
    const last = Math.max(to, this.#measure(low, middle), this.#measure(middle + 1, high));
    this.#last[middle] = last;
    return last;
  }

  #collect(row: number, low: number, high: number, found: T[]): void {
    if (low >= high) return;
    const middle = (low + high) >> 1;
    if ((this.#last[middle] as number) < row) return;
    this.#collect(row, low, middle, found);
    const { rows, value } = this.#sorted[middle] as Placed<T>;
    if (rows.from > row) return;
    if (rows.to >= row) found.push(value);
    this.#collect(row, middle + 1, high, found);
  }
}
