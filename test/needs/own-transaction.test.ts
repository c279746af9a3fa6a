import { drizzle as drizzleOnPg } from "drizzle-orm/node-postgres";
import { Kysely, MysqlDialect, PostgresDialect } from "kysely";
import { createPool } from "mysql2/promise";
import sqliteModule from "node-sqlite3-wasm";
import pg from "pg";
import { compile } from "portier";
import { type Connection, createDatabase } from "portier/database";
import { parseDocument } from "portier/document";
import { drizzleTransaction } from "portier/drizzle";
import { kyselyTransaction } from "portier/kysely";
import { mysql2Transaction } from "portier/mysql2";
import { pgTransaction } from "portier/pg";
import { pgliteTransaction } from "portier/pglite";
import { createTables, type Dialect, mariadb, postgres, sqlite } from "portier/sql";
import { sqliteTransaction } from "portier/sqlite";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { embeddedPostgres } from "../../examples/museum/embedded-postgres.mjs";

/** I want a change that Portier judges to be one with what my application writes itself. */
const portier = compile(
  parseDocument(`
portier: 1
people: { table: staff, roles: post }
roles: { keeper: {} }
tables:
  staff: { key: id, fields: { id: text, post: { choice: [keeper] } } }
  objects:
    key: id
    owner: keeper
    fields: { id: text, keeper: { reference: staff }, label: { type: text, optional: true }, seen: { type: timestamp, optional: true } }
    rules:
      own: { to: owner, where: seen > timestamp '2027-01-31T12:00:00Z', permit: { view: all, edit: [label] } }
`).document,
);

/** A way to an open transaction, and to the application's own statements in it. */
interface Own {
  readonly dialect: Dialect;
  readonly run: (text: string) => Promise<unknown>;
  /** Begins, hands over, and ends as the work says. */
  readonly within: (
    work: (joined: Connection, run: (text: string) => Promise<unknown>) => Promise<"commit" | "rollback">,
    isolation?: "weaker" | "read committed",
  ) => Promise<void>;
  /** Hands over a connection on which nothing is begun. */
  readonly outside?: () => Promise<{ readonly joined: Connection; readonly close: () => unknown }>;
  readonly close: () => Promise<unknown>;
}

class RolledBack extends Error {}

/** Transactions of which the application gives the work only: they are rolled back when it throws. */
async function handed(
  begin: (work: () => Promise<void>) => Promise<unknown>,
  work: () => Promise<"commit" | "rollback">,
) {
  const thrown = await begin(async () => {
    if ((await work()) === "rollback") throw new RolledBack();
  }).catch((error: unknown) => error);
  if (thrown instanceof Error && !(thrown instanceof RolledBack)) throw thrown;
}

const owns: Record<string, () => Promise<Own>> = {
  "a SQLite handle": async () => {
    const database = new sqliteModule.Database();
    const run = async (text: string) => database.all(text);
    return {
      dialect: sqlite,
      run,
      within: async (work) => {
        await run("begin");
        await run(await work(sqliteTransaction(database), run));
      },
      outside: async () => ({ joined: sqliteTransaction(database), close: () => {} }),
      close: async () => database.close(),
    };
  },
  "a transaction of PGlite": async () => {
    const database = await embeddedPostgres();
    return {
      dialect: postgres,
      run: (text) => database.query(text),
      within: async (work) => {
        let ended: () => Promise<"commit" | "rollback"> = async () => "rollback";
        const begin = (all: () => Promise<void>) =>
          database.transaction(async (tx) => {
            ended = () => work(pgliteTransaction(tx), (text) => tx.query(text));
            await all();
          });
        await handed(begin, () => ended());
      },
      close: () => database.close(),
    };
  },
};
const { PORTIER_POSTGRES: postgresUrl, PORTIER_MARIADB: mariadbUrl } = process.env;
const name = `portier_own_${process.pid}`;

if (postgresUrl !== undefined) {
  const open = async () => {
    const pool = new pg.Pool({ connectionString: postgresUrl, options: `-c search_path=${name}`, max: 4 });
    await pool.query(`drop schema if exists ${name} cascade; create schema ${name}`);
    const close = async () => {
      await pool.query(`drop schema ${name} cascade`);
      await pool.end();
    };
    return { pool, dialect: postgres, run: (text: string) => pool.query(text), close };
  };
  owns["a client of pg"] = async () => {
    const { pool, ...rest } = await open();
    return {
      ...rest,
      within: async (work, isolation) => {
        const client = await pool.connect();
        try {
          await client.query(isolation === undefined ? "begin isolation level serializable" : "begin");
          const weaker = isolation === "weaker" ? { isolation } : {};
          const end = await work(pgTransaction(client, weaker), (text) => client.query(text)).catch(async (error) => {
            await client.query("rollback");
            throw error;
          });
          await client.query(end);
        } finally {
          client.release();
        }
      },
      outside: async () => {
        const client = await pool.connect();
        return { joined: pgTransaction(client), close: () => client.release() };
      },
    };
  };
  owns["a transaction of Drizzle"] = async () => {
    const { pool, ...rest } = await open();
    const db = drizzleOnPg(pool);
    return {
      ...rest,
      within: async (work, isolation) => {
        let ended: () => Promise<"commit" | "rollback"> = async () => "rollback";
        const weaker = isolation === "weaker" ? { isolation } : {};
        const begin = (all: () => Promise<void>) =>
          db.transaction(
            async (tx) => {
              ended = () => work(drizzleTransaction(tx, postgres, weaker), (text) => tx.execute(text));
              await all();
            },
            isolation === undefined ? { isolationLevel: "serializable" } : {},
          );
        await handed(begin, () => ended());
      },
    };
  };
  owns["a transaction of Kysely on PostgreSQL"] = async () => {
    const { pool, ...rest } = await open();
    return onKysely(new Kysely({ dialect: new PostgresDialect({ pool }) }), postgres, rest);
  };
}

// biome-ignore lint/suspicious/noExplicitAny: a database of any tables
function onKysely(db: Kysely<any>, dialect: Dialect, rest: Pick<Own, "dialect" | "run" | "close">): Own {
  return {
    ...rest,
    within: async (work, isolation) => {
      let ended: () => Promise<"commit" | "rollback"> = async () => "rollback";
      const begun = isolation === undefined ? db.transaction().setIsolationLevel("serializable") : db.transaction();
      const weaker = isolation === "weaker" || dialect === mariadb ? ({ isolation: "weaker" } as const) : {};
      const begin = (all: () => Promise<void>) =>
        begun.execute(async (trx) => {
          const joined = kyselyTransaction(trx, dialect, weaker);
          ended = () => work(joined, (text) => joined.query(text, []));
          await all();
        });
      await handed(begin, () => ended());
    },
  };
}

if (mariadbUrl !== undefined) {
  const open = async () => {
    const admin = createPool({ uri: mariadbUrl, connectionLimit: 1 });
    await admin.query(`create or replace database ${name}`);
    const pool = createPool({ uri: mariadbUrl, database: name, timezone: "Z", charset: "utf8mb4" });
    const close = async () => {
      await pool.end();
      await admin.query(`drop database ${name}`);
      await admin.end();
    };
    return { pool, dialect: mariadb, run: (text: string) => pool.query(text), close };
  };
  owns["a connection of mysql2"] = async () => {
    const { pool, ...rest } = await open();
    return {
      ...rest,
      within: async (work, isolation) => {
        const connection = await pool.getConnection();
        const level = isolation === undefined ? "serializable" : "read committed";
        try {
          await connection.query(`set session transaction isolation level ${level}`);
          await connection.beginTransaction();
          const weaker = isolation === "weaker" ? { isolation } : {};
          const run = (text: string) => connection.query(text);
          const end = await work(mysql2Transaction(connection, weaker), run).catch(async (error) => {
            await connection.rollback();
            throw error;
          });
          await connection.query(end);
        } finally {
          connection.release();
        }
      },
      outside: async () => {
        const connection = await pool.getConnection();
        return { joined: mysql2Transaction(connection), close: () => connection.release() };
      },
    };
  };
  owns["a transaction of Kysely on MariaDB"] = async () => {
    const { pool, ...rest } = await open();
    const dialect = new MysqlDialect({ pool: (pool as unknown as { pool: never }).pool });
    return onKysely(new Kysely({ dialect }), mariadb, rest);
  };
}

describe.each(Object.entries(owns))("the application's own transaction, %s,", (kind, open) => {
  let own: Own;
  beforeAll(async () => {
    own = await open();
    for (const statement of createTables(portier.schema, own.dialect)) await own.run(statement);
  });
  afterAll(() => own?.close());
  beforeEach(async () => {
    await own.run("delete from objects");
    await own.run("delete from staff");
    await own.run("insert into staff (id, post) values ('wren', 'keeper'), ('kofi', 'keeper')");
  });

  const rowsOf = (answer: unknown): { label: string }[] => {
    const rows = Array.isArray(answer) ? answer : (answer as { rows: unknown }).rows;
    return (Array.isArray((rows as unknown[])[0]) ? (rows as unknown[][])[0] : rows) as { label: string }[];
  };
  const labels = async () => rowsOf(await own.run("select label from objects order by id")).map(({ label }) => label);
  /** Half a second after what the rule asks for, as each database writes it. */
  const instants = {
    sqlite: "2027-01-31T12:00:00.5Z",
    postgres: "2027-01-31 12:00:00.5+00",
    mariadb: "2027-01-31 12:00:00.5",
  };
  const insert = (seen: string) =>
    `insert into objects (id, keeper, label, seen) values ('o1', 'wren', 'old', '${seen}'), ('o2', 'kofi', 'old', null)`;

  it("holds what Portier judged and what the application wrote, or neither", async () => {
    for (const end of ["rollback", "commit"] as const) {
      await own.within(async (joined, run) => {
        await run(insert(instants[own.dialect.name]));
        const wren = createDatabase(portier, joined).as("wren");
        expect(await wren.edit("objects", "o1", { label: "new" })).toMatchObject({ accepted: true });
        // What is refused leaves nothing behind, and the transaction goes on.
        expect(await wren.edit("objects", "o2", { label: "new" })).toMatchObject({ reason: "not-found" });
        expect((await wren.list("objects")).records).toMatchObject([{ label: "new" }]);
        return end;
      });
      expect(await labels()).toEqual(end === "commit" ? ["new", "old"] : []);
    }
  });

  it("takes what is asked at once one after the other", async () => {
    await own.within(async (joined, run) => {
      await run(insert(instants[own.dialect.name]));
      const wren = createDatabase(portier, joined).as("wren");
      const outcomes = await Promise.all([
        wren.edit("objects", "o1", { label: "first" }),
        wren.edit("objects", "o2", { label: "refused" }),
        wren.list("objects"),
        wren.edit("objects", "o1", { label: "last" }),
      ]);
      expect(outcomes.map((one) => ("accepted" in one ? one.accepted : "list"))).toEqual([true, false, "list", true]);
      return "commit";
    });
    expect(await labels()).toEqual(["last", "old"]);
  });

  it("must be open, and promise that what a change was judged on still counts", async () => {
    const outside = await own.outside?.();
    if (outside !== undefined) {
      const change = createDatabase(portier, outside.joined).as("wren").edit("objects", "o1", { label: "new" });
      await expect(change).rejects.toThrow(/No transaction is open/);
      outside.close();
    }
    if (/SQLite|PGlite|Kysely on MariaDB/.test(kind)) return;
    const reading = (joined: Connection) => createDatabase(portier, joined).as("wren").list("objects");
    const weak = own.within(async (joined) => {
      await reading(joined);
      return "commit";
    }, "read committed");
    await expect(weak).rejects.toThrow(/This transaction is read committed/);
    await own.within(async (joined) => {
      expect((await reading(joined)).records).toEqual([]);
      return "commit";
    }, "weaker");
  });
});
