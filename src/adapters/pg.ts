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
    query: async (text, params) => {
      const client = await pool.connect();
      try {
        return await linkOf(client).query(text, params);
      } finally {
        client.release();
      }
    },
    transaction: async (work) => {
      const client = await pool.connect();
      let isBroken = false;
      try {
        return await withTransaction(linkOf(client), ["begin isolation level serializable"], work, () => {
          isBroken = true;
        });
      } finally {
        client.release(isBroken);
      }
    },
    ...postgresErrors,
  };
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
