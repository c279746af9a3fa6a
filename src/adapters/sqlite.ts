import type { Connection, DriverRow } from "../database/connection.js";
import { inOrder } from "../database/in-order.js";
import { sqlite } from "../sql/sqlite.js";
import { joined, type Link, standingInSqlite, withTransaction } from "./transaction.js";

/** What this needs of a SQLite driver: to run one statement and give its rows. `node-sqlite3-wasm` has it as it is. */
export interface SqliteDatabase {
  // biome-ignore lint/suspicious/noExplicitAny: each driver has its own type of values
  all(text: string, params: any): unknown[];
}

const says = (error: unknown, words: RegExp) => error instanceof Error && words.test(error.message);

/** SQLite in this process. It has one session: changes wait for each other. */
export function sqliteConnection(database: SqliteDatabase): Connection {
  const inTurn = inOrder();
  const link = linkOf(database);
  return {
    ...link,
    query: (text, params) => inTurn(() => link.query(text, params)),
    // Immediate: whoever reads to write holds the file from the start, so that no other writes in between.
    transaction: (work) => inTurn(() => withTransaction(link, ["begin immediate"], work)),
    reading: (work) => inTurn(() => withTransaction(link, ["begin deferred"], work)),
  };
}

/**
 * A transaction that the application has begun on its handle of SQLite. What the database layer does becomes a part of it:
 * committed or rolled back with it, and what is refused or fails leaves nothing behind.
 *
 * @throws PortierError (`wrong-call`), at the first statement, where no transaction is open.
 */
export function sqliteTransaction(database: SqliteDatabase): Connection {
  return joined(linkOf(database), standingInSqlite, {});
}

/** How errors of SQLite are told apart, for a connection of your own. */
export const sqliteErrors: Pick<Connection, "isConflict" | "isDuplicate" | "isConstraint"> = {
  // Another process holds the file.
  isConflict: (error) => says(error, /database is locked|SQLITE_BUSY/),
  isDuplicate: (error) => says(error, /UNIQUE constraint failed/),
  isConstraint: (error) => says(error, /constraint failed/i),
};

function linkOf(database: SqliteDatabase): Link {
  return {
    dialect: sqlite,
    query: async (text, params) => database.all(text, [...params]) as DriverRow[],
    ...sqliteErrors,
  };
}
