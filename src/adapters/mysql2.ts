import type { Connection, DriverRow } from "../database/connection.js";
import { mariadb } from "../sql/mariadb.js";
import { codeOf, type JoinOptions, joined, type Link, standingInMariadb, withTransaction } from "./transaction.js";

export type { JoinOptions } from "./transaction.js";

/** What this needs of a pool of `mysql2/promise`. */
export interface Mysql2Pool {
  getConnection(): Promise<Mysql2Connection>;
}

/** What this needs of a connection of `mysql2/promise`, as it is or as a pool has lent it. */
export interface Mysql2Statements {
  // biome-ignore lint/suspicious/noExplicitAny: the driver tells statements apart by overloads that no other type fits
  query(options: any): Promise<[unknown, unknown]>;
  // biome-ignore lint/suspicious/noExplicitAny: as above
  execute(options: any, values: any): Promise<[unknown, unknown]>;
  // biome-ignore lint/suspicious/noExplicitAny: as above
  unprepare(options: any): unknown;
}

/** What is used of a connection of mysql2. */
export interface Mysql2Connection extends Mysql2Statements {
  release(): void;
  destroy(): void;
}

/** How errors of `mysql2` are told apart, for a connection of your own. */
export const mariadbErrors: Pick<Connection, "isConflict" | "isDuplicate" | "isConstraint"> = {
  isConflict: (error) => ["ER_LOCK_DEADLOCK", "ER_CHECKREAD", "ER_LOCK_WAIT_TIMEOUT"].includes(codeOf(error) ?? ""),
  isDuplicate: (error) => codeOf(error) === "ER_DUP_ENTRY",
  isConstraint: (error) => String((error as { sqlState?: unknown } | null)?.sqlState).startsWith("23"),
};

/** Waits for a lock for a second at most, so that what has waited for long is begun anew; then as the pool has it. */
const beginMariadb = [
  "set transaction isolation level serializable",
  "set @portier_wait = @@innodb_lock_wait_timeout, innodb_lock_wait_timeout = 1",
  "start transaction",
];
const endMariadb = "set innodb_lock_wait_timeout = coalesce(@portier_wait, @@innodb_lock_wait_timeout)";

/** A select of a serializable transaction would wait for whoever has locked what it looks at. */
const beginReading = [
  "set transaction isolation level repeatable read",
  "start transaction with consistent snapshot, read only",
];

/** MariaDB through a pool of the driver `mysql2` (its `mysql2/promise`). */
export function mysql2Connection(pool: Mysql2Pool): Connection {
  return {
    dialect: mariadb,
    query: async (text, params) => {
      const connection = await pool.getConnection();
      try {
        return await linkOf(connection).query(text, params);
      } finally {
        connection.release();
      }
    },
    transaction: (work) => lent(pool, beginMariadb, endMariadb, work),
    reading: (work) => lent(pool, beginReading, undefined, work),
    ...mariadbErrors,
  };
}

/**
 * A transaction that the application has begun on a connection of `mysql2/promise`. What the database layer does becomes a part
 * of it: committed or rolled back with it, and what is refused or fails leaves nothing behind.
 *
 * @throws PortierError (`wrong-call`), at the first statement, where no transaction is open, or where the level of the session
 * (`set session transaction isolation level serializable`) is another, unless `isolation` says that it may be.
 */
export function mysql2Transaction(connection: Mysql2Statements, options: JoinOptions = {}): Connection {
  return joined(linkOf(connection), standingInMariadb, options);
}

/** Takes a connection from the pool for one transaction. One that is of no use any more does not go back. */
async function lent<T>(
  pool: Mysql2Pool,
  begin: readonly string[],
  end: string | undefined,
  work: (inside: Connection) => Promise<T>,
): Promise<T> {
  const connection = await pool.getConnection();
  let isBroken = false;
  const onBroken = () => {
    isBroken = true;
  };
  try {
    return await withTransaction(linkOf(connection), begin, work, onBroken);
  } finally {
    if (!isBroken && end !== undefined) await connection.query({ sql: end }).catch(onBroken);
    if (isBroken) connection.destroy();
    else connection.release();
  }
}

/** Dates as text, whatever the pool's own settings: the driver's default makes objects in local time of them. */
const settings = { dateStrings: true, supportBigNumbers: true } as const;

function rowsOf([rows]: readonly [unknown, unknown]): readonly DriverRow[] {
  return Array.isArray(rows) ? (rows as DriverRow[]) : [];
}

function linkOf(connection: Mysql2Statements): Link {
  return {
    dialect: mariadb,
    query: async (sql, params) => {
      if (params.length === 0) return rowsOf(await connection.query({ sql, ...settings }));
      try {
        return rowsOf(await connection.execute({ sql, ...settings }, [...params]));
      } finally {
        // Prepared for this once. MariaDB 10.11 finds other records when it runs some statements again (an `exists` over a
        // select in brackets: test/sql/query-builders.test.ts), and statements that are kept add up until it takes no more.
        connection.unprepare({ sql });
      }
    },
    ...mariadbErrors,
  };
}
