import type { Connection, DriverRow } from "../database/connection.js";
import { inOrder } from "../database/in-order.js";
import { postgres, postgresTexts } from "../sql/postgres.js";
import { beginReadingPostgres, type Link, postgresErrors, withTransaction } from "./transaction.js";

/** What this needs of a `PGlite`. */
export interface Pglite {
  query(text: string, params: unknown[], options: PgliteOptions): Promise<{ rows: unknown[] }>;
  listen(channel: string, onNotice: () => void): Promise<() => Promise<void>>;
}

interface PgliteOptions {
  parsers: Record<number, (text: string) => unknown>;
}

const bigint = 20;
const parsers = Object.fromEntries([bigint, ...postgresTexts].map((type) => [type, (text: string) => text]));

/** PostgreSQL embedded in this process, with `@electric-sql/pglite`. It has one session: changes wait for each other. */
export function pgliteConnection(database: Pglite): Connection {
  const inTurn = inOrder();
  const link: Link = {
    dialect: postgres,
    query: async (text, params) => (await database.query(text, [...params], { parsers })).rows as DriverRow[],
    ...postgresErrors,
  };
  return {
    ...link,
    query: (text, params) => inTurn(() => link.query(text, params)),
    // In this process there is no link to lose.
    listen: (channel, onNotice) => database.listen(channel, onNotice),
    transaction: (work) => inTurn(() => withTransaction(link, ["begin isolation level serializable"], work)),
    reading: (work) => inTurn(() => withTransaction(link, [beginReadingPostgres], work)),
  };
}
