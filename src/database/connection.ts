import type { Dialect } from "../sql/dialect.js";

/** What a driver gave for one row: column name to value. */
export type DriverRow = Readonly<Record<string, unknown>>;

/**
 * A database as this package uses it. There is one for each driver (`portier/pg`, `portier/pglite`, `portier/mysql2`,
 * `portier/sqlite`); for another driver, give an object of this shape.
 */
export interface Connection {
  /** How its SQL is written. */
  readonly dialect: Dialect;
  /** Runs one statement and gives its rows, dates and exact numbers as text. */
  query(text: string, params: readonly unknown[]): Promise<readonly DriverRow[]>;
  /**
   * Runs work in one transaction, at the level at which transactions are as if they ran one after the other: it is
   * committed when the work is done, and rolled back when the work throws. Nothing of it is half done.
   */
  transaction<T>(work: (inside: Connection) => Promise<T>): Promise<T>;
  /**
   * Runs work that only reads, on the database as it is at one instant: it waits for nobody, and nobody waits for it. Without
   * it, such work runs in a transaction as any other.
   */
  reading?<T>(work: (inside: Connection) => Promise<T>): Promise<T>;
  /**
   * Listens for what another connection tells by `notify`; gives what ends it. `onLost` is told when the link is gone.
   * Only where the database has such a thing (PostgreSQL).
   */
  listen?(channel: string, onNotice: () => void, onLost: () => void): Promise<() => Promise<void>>;
  /** Whether it is a transaction of another: what stands in its way cannot be waited for inside. */
  readonly isNested?: boolean;
  /** Whether an error says that another transaction stood in the way, so that the same may succeed when tried again. */
  isConflict(error: unknown): boolean;
  /** Whether an error says that a value that must be unique is there already. */
  isDuplicate(error: unknown): boolean;
  /** Whether an error says that a constraint of the database does not allow what was written, a unique value among them. */
  isConstraint?(error: unknown): boolean;
  /** How long a transaction is begun anew while others stand in its way, in milliseconds. Default: 5,000. */
  readonly patience?: number;
}
