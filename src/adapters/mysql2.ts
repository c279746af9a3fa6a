import type { Connection, DriverRow } from "../database/connection.js";
import { mariadb } from "../sql/mariadb.js";
import { codeOf, type Link, withTransaction } from "./transaction.js";

/** What this needs of a pool of `mysql2/promise`. */
export interface Mysql2Pool {
  getConnection(): Promise<Mysql2Connection>;
}

interface Mysql2Connection {
  // biome-ignore lint/suspicious/noExplicitAny: the driver tells statements apart by overloads that no other type fits
  query(options: any): Promise<[unknown, unknown]>;
  // biome-ignore lint/suspicious/noExplicitAny: as above
  execute(options: any, values: any): Promise<[unknown, unknown]>;
  release(): void;
  destroy(): void;
}

const errors: Pick<Connection, "isConflict" | "isDuplicate"> = {
  isConflict: (error) => codeOf(error) === "ER_LOCK_DEADLOCK" || codeOf(error) === "ER_CHECKREAD",
  isDuplicate: (error) => codeOf(error) === "ER_DUP_ENTRY",
};

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
    transaction: async (work) => {
      const connection = await pool.getConnection();
      const begin = ["set transaction isolation level serializable", "start transaction"];
      let isBroken = false;
      try {
        return await withTransaction(linkOf(connection), begin, work, () => {
          isBroken = true;
        });
      } finally {
        if (isBroken) connection.destroy();
        else connection.release();
      }
    },
    ...errors,
  };
}

/** Dates as text, whatever the pool's own settings: the driver's default makes objects in local time of them. */
const settings = { dateStrings: true, supportBigNumbers: true } as const;

function linkOf(connection: Mysql2Connection): Link {
  return {
    dialect: mariadb,
    query: async (sql, params) => {
      const [rows] =
        params.length === 0
          ? await connection.query({ sql, ...settings })
          : await connection.execute({ sql, ...settings }, [...params]);
      return Array.isArray(rows) ? (rows as DriverRow[]) : [];
    },
    ...errors,
  };
}
