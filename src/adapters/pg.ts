import type { Connection, DriverRow } from "../database/connection.js";
import { postgres, postgresTexts } from "../sql/postgres.js";
import {
  beginPostgres,
  beginReadingPostgres,
  type JoinOptions,
  joined,
  type Link,
  postgresErrors,
  standingInPostgres,
  withTransaction,
} from "./transaction.js";

export type { JoinOptions } from "./transaction.js";

/** What this needs of a `Pool` of the driver `pg`. */
export interface PgPool {
  connect(): Promise<PgClient>;
}

/** What this needs of a `Client` of the driver `pg`, or of one that a pool has lent. */
export interface PgStatements {
  query(statement: { text: string; values: unknown[]; types: PgTypes }): Promise<{ rows: unknown[] }>;
  getTypeParser(type: number, format?: "text"): (text: string) => unknown;
}

/** What is used of a client of pg. */
export interface PgClient extends PgStatements {
  release(isBroken?: boolean): void;
  on(event: "error", listener: (error: Error) => void): unknown;
  on(event: "notification", listener: (message: { channel: string }) => void): unknown;
  removeListener(event: "error", listener: (error: Error) => void): unknown;
}

/** The parsers of a client of pg. */
export interface PgTypes {
  // biome-ignore lint/suspicious/noExplicitAny: the driver's own declaration says so
  getTypeParser(type: number, format?: any): any;
}

const asSent = (text: string): string => text;

/** PostgreSQL through a pool of the driver `pg`. */
export function pgConnection(pool: PgPool): Connection {
  const listening = new Listening(pool);
  return {
    dialect: postgres,
    query: (text, params) => lent(pool, (client) => linkOf(client).query(text, params)),
    transaction: (work) =>
      lent(pool, (client, onBroken) => withTransaction(linkOf(client), [beginPostgres], work, onBroken)),
    reading: (work) =>
      lent(pool, (client, onBroken) => withTransaction(linkOf(client), [beginReadingPostgres], work, onBroken)),
    listen: (channel, onNotice, onLost) => listening.listen(channel, onNotice, onLost),
    ...postgresErrors,
  };
}

/**
 * A transaction that the application has begun on a client of the driver `pg`. What the database layer does becomes a part of
 * it: committed or rolled back with it, and what is refused or fails leaves nothing behind.
 *
 * @throws PortierError (`wrong-call`), at the first statement, where no transaction is open, or one that is not serializable
 * unless `isolation` says that it may be.
 *
 * @example
 * await client.query("begin isolation level serializable");
 * const outcome = await createDatabase(portier, pgTransaction(client)).as("s-003").edit("objects", key, { label });
 * await client.query(outcome.accepted ? "commit" : "rollback");
 */
export function pgTransaction(client: PgStatements, options: JoinOptions = {}): Connection {
  return joined(linkOf(client), standingInPostgres, options);
}

/** One who listens on a channel. */
interface Listener {
  readonly channel: string;
  readonly onNotice: () => void;
  readonly onLost: () => void;
}

/**
 * All who listen to one pool's database, over one client that is lent to nobody else meanwhile: however many windows are
 * open, they hold one connection. It goes back when nobody listens any more.
 */
class Listening {
  readonly #pool: PgPool;
  readonly #listeners = new Set<Listener>();
  #client: Promise<PgClient> | undefined;

  constructor(pool: PgPool) {
    this.#pool = pool;
  }

  async listen(channel: string, onNotice: () => void, onLost: () => void): Promise<() => Promise<void>> {
    const listener = { channel, onNotice, onLost };
    this.#listeners.add(listener);
    try {
      this.#client ??= this.#connect();
      await linkOf(await this.#client).query(`listen ${postgres.quoteName(channel)}`, []);
    } catch (error) {
      this.#listeners.delete(listener);
      this.#endIfAlone();
      throw error;
    }
    return async () => {
      if (this.#listeners.delete(listener)) this.#endIfAlone();
    };
  }

  async #connect(): Promise<PgClient> {
    const client = await this.#pool.connect();
    client.on("error", () => this.#lose(client));
    client.on("notification", (message) => {
      for (const { channel, onNotice } of [...this.#listeners]) if (channel === message.channel) onNotice();
    });
    return client;
  }

  /** The link is gone: whoever listened is told, and the next one to listen makes another. */
  #lose(client: PgClient): void {
    if (this.#client === undefined) return;
    this.#client = undefined;
    client.release(true);
    const lost = [...this.#listeners];
    this.#listeners.clear();
    for (const { onLost } of lost) onLost();
  }

  #endIfAlone(): void {
    const client = this.#client;
    if (this.#listeners.size > 0 || client === undefined) return;
    this.#client = undefined;
    client.then(
      (one) => one.release(true),
      () => {},
    );
  }
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

function linkOf(client: PgStatements): Link {
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
