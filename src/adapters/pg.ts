import type { Connection, DriverRow } from "../database/connection.js";
import { postgres, postgresTexts } from "../sql/postgres.js";
import { type Link, postgresErrors, withTransaction } from "./transaction.js";

/** What this needs of a `Pool` of the driver `pg`. */
export interface PgPool {
  connect(): Promise<PgClient>;
}

interface PgClient {
  query(statement: { text: string; values: unknown[]; types: PgTypes }): Promise<{ rows: unknown[] }>;
  getTypeParser(type: number, format?: "text"): (text: string) => unknown;
  release(isBroken?: boolean): void;
  on(event: "error", listener: (error: Error) => void): unknown;
  on(event: "notification", listener: (message: { channel: string }) => void): unknown;
  removeListener(event: "error", listener: (error: Error) => void): unknown;
}

interface PgTypes {
  // biome-ignore lint/suspicious/noExplicitAny: the driver's own declaration says so
  getTypeParser(type: number, format?: any): any;
}

const asSent = (text: string): string => text;

/** PostgreSQL through a pool of the driver `pg`. */
export function pgConnection(pool: PgPool): Connection {
  return {
    dialect: postgres,
    query: (text, params) => lent(pool, (client) => linkOf(client).query(text, params)),
    transaction: (work) =>
      lent(pool, (client, onBroken) =>
        withTransaction(linkOf(client), ["begin isolation level serializable"], work, onBroken),
      ),
    listen: (channel, onNotice, onLost) => listening(pool, channel, onNotice, onLost),
    ...postgresErrors,
  };
}

/** A client of its own, for as long as somebody listens: it is never lent to anybody else. */
async function listening(
  pool: PgPool,
  channel: string,
  onNotice: () => void,
  onLost: () => void,
): Promise<() => Promise<void>> {
  const client = await pool.connect();
  let isOver = false;
  const end = (tell: () => void) => {
    if (isOver) return;
    isOver = true;
    client.release(true);
    tell();
  };
  client.on("error", () => end(onLost));
  client.on("notification", (message) => {
    if (message.channel === channel && !isOver) onNotice();
  });
  try {
    await linkOf(client).query(`listen ${postgres.quoteName(channel)}`, []);
  } catch (error) {
    end(() => {});
    throw error;
  }
  return async () => end(() => {});
}

/** Takes a client from the pool for as long as work takes. One whose link is of no use any more does not go back. */
async function lent<T>(pool: PgPool, work: (client: PgClient, onBroken: () => void) => Promise<T>): Promise<T> {
  const client = await pool.connect();
  let isBroken = false;
  const onBroken = () => {
    isBroken = true;
  };
  // A link that is cut tells so twice: to the statement that runs, and by an event that nobody else listens to here.
  client.on("error", onBroken);
  try {
    return await work(client, onBroken);
  } finally {
    client.removeListener("error", onBroken);
    client.release(isBroken);
  }
}

function linkOf(client: PgClient): Link {
  const getTypeParser: PgTypes["getTypeParser"] = (type, format) =>
    postgresTexts.includes(type) ? asSent : client.getTypeParser(type, format);
  return {
    dialect: postgres,
    query: async (text, params) => {
      const { rows } = await client.query({ text, values: [...params], types: { getTypeParser } });
      return rows as DriverRow[];
    },
    ...postgresErrors,
  };
}
