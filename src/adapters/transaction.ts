import type { Connection } from "../database/connection.js";

/** A driver's one session with a database. */
export type Link = Omit<Connection, "transaction" | "reading">;

/**
 * Runs work between the statements that begin a transaction and its commit; rolls back when it throws. `onBroken` is
 * told when even that fails: the link to the database is then of no use any more.
 */
export async function withTransaction<T>(
  link: Link,
  begin: readonly string[],
  work: (inside: Connection) => Promise<T>,
  onBroken: () => void = () => {},
): Promise<T> {
  try {
    for (const statement of begin) await link.query(statement, []);
    const result = await work(within(link, 1));
    await link.query("commit", []);
    return result;
  } catch (error) {
    await link.query("rollback", []).catch(onBroken);
    throw error;
  }
}

/** Inside a transaction, another one is a part of it that can be rolled back by itself. */
function within(link: Link, depth: number): Connection {
  const savepoint = `portier_${depth}`;
  return {
    ...link,
    isNested: true,
    transaction: async (work) => {
      await link.query(`savepoint ${savepoint}`, []);
      try {
        const result = await work(within(link, depth + 1));
        await link.query(`release savepoint ${savepoint}`, []);
        return result;
      } catch (error) {
        await link.query(`rollback to savepoint ${savepoint}`, []).catch(() => {});
        throw error;
      }
    },
  };
}

/** What a driver's error calls itself: an SQLSTATE, or a name such as `ER_DUP_ENTRY`. */
export function codeOf(error: unknown): string | undefined {
  const { code } = (typeof error === "object" && error !== null ? error : {}) as { code?: unknown };
  return typeof code === "string" ? code : undefined;
}

/**
 * What begins a transaction of PostgreSQL. It sees the database as it was at its first statement; one that then waited for
 * a lock would be judged on what counted before that. So it hardly waits: it is begun anew, and sees what others have left.
 */
export const beginPostgres = "begin isolation level serializable; set local lock_timeout = '20ms'";

/** What begins work that only reads, on the database as it is then. */
export const beginReadingPostgres = "begin isolation level repeatable read read only";

/** PostgreSQL's SQLSTATEs. */
export const postgresErrors: Pick<Connection, "isConflict" | "isDuplicate" | "isConstraint"> = {
  // Serialization failure, deadlock, a lock that was not given in time.
  isConflict: (error) => ["40001", "40P01", "55P03"].includes(codeOf(error) ?? ""),
  isDuplicate: (error) => codeOf(error) === "23505",
  // Class 23 of ISO/IEC 9075: integrity constraint violation.
  isConstraint: (error) => codeOf(error)?.startsWith("23") === true,
};
