/** A record as an application holds it: field name to value. */
export type Row = Readonly<Record<string, unknown>>;

/**
 * Where conditions read other records in memory. Synchronous; a source that throws makes the decision a fault, which is
 * a denial.
 */
export interface Source {
  /** The record of `table` with this key (as text: `42` for a number), or undefined when there is none. */
  find(table: string, key: string): Row | undefined;
}
