import type { Connection, DriverRow } from "../database/connection.js";
import { inOrder } from "../database/in-order.js";
import { postgres, postgresTexts } from "../sql/postgres.js";
import {
  beginReadingPostgres,
  joined,
  type Link,
  postgresErrors,
  standingInPostgres,
  withTransaction,
} from "./transaction.js";

/** What this needs of a transaction of a `PGlite`. */
export interface PgliteStatements {
  query(text: string, params: unknown[], options: PgliteOptions): Promise<{ rows: unknown[] }>;
}

/** What this needs of a `PGlite`. */
export interface Pglite extends PgliteStatements {
  listen(channel: string, onNotice: () => void): Promise<() => Promise<void>>;
}

/** How PGlite reads values. */
export interface PgliteOptions {
  parsers: Record<number, (text: string) => unknown>;
}

const bigint = 20;
const parsers = Object.fromEntries([bigint, ...postgresTexts].map((type) => [type, (text: string) => text]));

/** PostgreSQL embedded in this process, with `@electric-sql/pglite`. It has one session: changes wait for each other. */
export function pgliteConnection(database: Pglite): Connection {
  const inTurn = inOrder();
  const link = linkOf(database);
  return {
    ...link,
    query: (text, params) => inTurn(() => link.query(text, params)),
    // In this process there is no link to lose.
    listen: (channel, onNotice) => database.listen(channel, onNotice),
    transaction: (work) => inTurn(() => withTransaction(link, ["begin isolation level serializable"], work)),
    reading: (work) => inTurn(() => withTransaction(link, [beginReadingPostgres], work)),
  };
}

/**
 * A transaction that the application has begun: the object that `database.transaction` hands to its work. What the database
 * layer does becomes a part of it. This database has one session, so any level is as if alone.
 */
export function pgliteTransaction(transaction: PgliteStatements): Connection {
  return joined(linkOf(transaction), standingInPostgres, { isolation: "weaker" });
}

function linkOf(database: PgliteStatements): Link {
  return {
    dialect: postgres,
    query: async (text, params) => (await database.query(text, [...params], { parsers })).rows as DriverRow[],
    ...postgresErrors,
  };
}
