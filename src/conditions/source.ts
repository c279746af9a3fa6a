/** A record as an application holds it: field name to value. */
export type Row = Readonly<Record<string, unknown>>;

/**
 * Where conditions read other records in memory. Synchronous; a source that throws makes the decision a fault, which is
 * a denial. `portier.source(data)` makes one over records in memory.
 */
export interface Source {
  /**
   * The record of `table` with this key as text (`42` for a number; the values of a key of several fields joined by `/`,
   * with `/` and `%` percent-encoded), or undefined when there is none.
   */
  find(table: string, key: string): Row | undefined;
  /** The records of `table` whose `field` holds this key, as text; in a list, as one of its elements. Needed by `exists` and link tables. */
  referring?(table: string, field: string, key: string): Iterable<Row>;
  /**
   * The records of `table` of which a path of fields leads to this value, as the text of its canonical form, and those of
   * which that cannot be told; undefined where it has to be found out from all of them. `portier.source` has an index.
   */
  holding?(table: string, path: readonly string[], value: string): Iterable<Row> | undefined;
  /** All records of `table`. Needed by an `exists` that no reference narrows, and by the choices of a reference. */
  all?(table: string): Iterable<Row>;
}
