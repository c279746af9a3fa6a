import type { Connection } from "./connection.js";
import { ConflictError, ConstraintError } from "./errors.js";
import { inOrder } from "./in-order.js";

/** How long a transaction is begun anew while others stand in its way, in milliseconds, unless the connection says. */
export const defaultPatience = 5_000;

/**
 * Runs work in a transaction of its own, anew while others stand in its way: each time it sees what they have left. A
 * transaction inside another cannot be begun anew by itself: it throws what the driver threw, and the outer one decides.
 *
 * @throws ConflictError when others have stood in the way for the connection's `patience`; ConstraintError for what the
 * database does not take; otherwise what the work or the driver threw.
 */
export function inTransaction<R>(connection: Connection, work: (inside: Connection) => Promise<R>): Promise<R> {
  const once = () => connection.transaction(work);
  return connection.isNested ? once() : begunAnew(connection, once);
}

/**
 * Runs work that only reads, which waits for nobody where the connection can. It may see what a transaction around it has
 * written.
 *
 * @throws as {@link inTransaction}.
 */
export function inReading<R>(connection: Connection, work: (inside: Connection) => Promise<R>): Promise<R> {
  if (connection.isNested) return work(connection);
  const once = () => (connection.reading === undefined ? connection.transaction(work) : connection.reading(work));
  return begunAnew(connection, once);
}

/**
 * Runs work of which each statement that reads stands by itself, outside of any transaction.
 *
 * @throws as {@link inTransaction}.
 */
export function inStatements<R>(connection: Connection, work: (inside: Connection) => Promise<R>): Promise<R> {
  return begunAnew(connection, () => work(connection));
}

async function begunAnew<R>(connection: Connection, once: () => Promise<R>): Promise<R> {
  const end = Date.now() + (connection.patience ?? defaultPatience);
  let met: unknown;
  for (let attempt = 0; ; attempt++) {
    try {
      return await (attempt === 0 ? once() : inTurn(connection, once, end, met));
    } catch (error) {
      if (error instanceof ConflictError) throw error;
      if (!connection.isConflict(error)) throw typed(connection, error);
      if (Date.now() > end) throw new ConflictError(error);
      met = error;
      // Others go first, each a different time, so that they do not meet again.
      await wait(Math.random() * Math.min(200, 5 * 2 ** attempt));
    }
  }
}

const lanes = new WeakMap<Connection, ReturnType<typeof inOrder>>();

/**
 * What is begun anew in this process goes in single file: of many that meet, each would stand in the others' way again. Nobody
 * waits for their turn beyond `end`: the one before may be waiting for this very work.
 */
function inTurn<R>(connection: Connection, once: () => Promise<R>, end: number, met: unknown): Promise<R> {
  const lane = lanes.get(connection) ?? inOrder();
  lanes.set(connection, lane);
  return new Promise<R>((resolve, reject) => {
    let isLate = false;
    const timer = timers.setTimeout(
      () => {
        isLate = true;
        reject(new ConflictError(met));
      },
      Math.max(0, end - Date.now()),
    );
    void lane(async () => {
      if (isLate) return;
      timers.clearTimeout(timer);
      await once().then(resolve, reject);
    });
  });
}

/** A driver's error as one of this package's, where it is of a kind that a caller can do something about. */
export function typed(connection: Connection, error: unknown): unknown {
  if (connection.isConflict(error)) return new ConflictError(error);
  const isConstraint = connection.isDuplicate(error) || connection.isConstraint?.(error) === true;
  return isConstraint ? new ConstraintError(error) : error;
}

/** What every place where this runs has: Node.js and browsers. */
const timers = globalThis as unknown as {
  readonly performance: { now(): number };
  setTimeout(run: () => void, after: number): unknown;
  clearTimeout(timer: unknown): void;
};

/** Milliseconds on a clock that nobody sets. */
export function now(): number {
  return timers.performance.now();
}

export function wait(milliseconds: number): Promise<void> {
  return new Promise((resolve) => {
    timers.setTimeout(resolve, milliseconds);
  });
}
