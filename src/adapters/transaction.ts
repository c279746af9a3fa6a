import type { Connection } from "../database/connection.js";
import { inOrder } from "../database/in-order.js";
import { portierError } from "../schema/problems.js";

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

/** How the database layer joins a transaction that the application has begun. */
export interface JoinOptions {
  /**
   * What the transaction promises. `serializable`, the default: that what a change was judged on counts when it is
   * committed; one that promises less is refused. `weaker`: the application's own matter, by its locks or as nobody else writes.
   */
  readonly isolation?: "serializable" | "weaker";
}

/** Whether a transaction is open, and the level that it has; undefined where it always is as if alone. */
type Standing = (link: Link) => Promise<{ readonly isOpen: boolean; readonly level: string | undefined }>;

/**
 * A transaction that the application has begun and will end: work in it is a part that is rolled back by itself. The first
 * statement looks whether it is open and what it promises.
 */
export function joined(link: Link, standing: Standing, { isolation = "serializable" }: JoinOptions): Connection {
  let checked: Promise<void> | undefined;
  const check = async () => {
    const { isOpen, level } = await standing(link);
    if (!isOpen) {
      const hint = "begin one, and end it when the work is done; or give the pool to a connection of Portier's own";
      throw portierError("wrong-call", { what: "no transaction is open on this connection", hint });
    }
    if (isolation === "weaker" || level === undefined || level === "serializable") return;
    const what = `this transaction is ${level}: what a change is judged on could change before it is written`;
    throw portierError("wrong-call", { what, hint: 'begin it serializable, or say { isolation: "weaker" }' });
  };
  const sound = () => {
    checked ??= check();
    return checked;
  };
  const guarded: Link = {
    ...link,
    query: async (text, params) => {
      await sound();
      return link.query(text, params);
    },
  };
  const inside = within(guarded, 1);
  // What is begun at once must not end in each other's savepoints.
  const inTurn = inOrder();
  return {
    ...inside,
    query: (text, params) => inTurn(() => inside.query(text, params)),
    transaction: (work) => inTurn(() => inside.transaction(work)),
  };
}

/** Of PostgreSQL: a savepoint is taken in transactions only. */
export const standingInPostgres: Standing = async (link) => {
  try {
    await link.query("savepoint portier_join", []);
  } catch (error) {
    if (codeOf(error) === "25P01") return { isOpen: false, level: undefined };
    throw error;
  }
  await link.query("release savepoint portier_join", []);
  const [row] = await link.query("select current_setting('transaction_isolation') as level", []);
  return { isOpen: true, level: String(row?.["level"]) };
};

/** Of MariaDB, which tells the level of the session: one that was set for the next transaction alone cannot be seen. */
export const standingInMariadb: Standing = async (link) => {
  const [row] = await link.query("select @@in_transaction as open, @@tx_isolation as level", []);
  return { isOpen: Number(row?.["open"]) === 1, level: String(row?.["level"]).toLowerCase().replaceAll("-", " ") };
};

/** Of SQLite, where none is begun inside another, and each is as if alone. */
export const standingInSqlite: Standing = async (link) => {
  try {
    await link.query("begin", []);
  } catch (error) {
    if (error instanceof Error && /within a transaction/.test(error.message)) return { isOpen: true, level: undefined };
    throw error;
  }
  await link.query("rollback", []);
  return { isOpen: false, level: undefined };
};

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
