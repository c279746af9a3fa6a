import { existsSync } from "node:fs";
import { mysql2Connection } from "../adapters/mysql2.js";
import { pgConnection } from "../adapters/pg.js";
import { pgliteConnection } from "../adapters/pglite.js";
import { sqliteConnection } from "../adapters/sqlite.js";
import type { Connection } from "../database/connection.js";
import { emptyPostgres } from "./empty-postgres.js";
import { CliError } from "./io.js";

/** A database that a command works with, and how to leave it. */
export interface OpenDatabase {
  readonly connection: Connection;
  readonly close: () => Promise<unknown>;
}

/** What an address of a database looks like, for help and messages. */
export const databaseAddresses =
  "postgres://..., mysql://..., pglite:FOLDER, or the file of a SQLite database (.db, .sqlite)";

const sqliteFile = /\.(?:db|sqlite|sqlite3)$/i;

export function isDatabase(address: string): boolean {
  return /^(?:postgres|postgresql|pglite|mysql|mariadb|sqlite):/.test(address) || sqliteFile.test(address);
}

/** What a command does with a database: a file is opened for no more than that. */
export type DatabaseUse = "read" | "write";

/** Opens a database by its address. The driver is the application's own: it is looked for when it is needed. */
async function openAddress(address: string, use: DatabaseUse): Promise<OpenDatabase> {
  if (/^postgres(?:ql)?:/.test(address)) {
    const { default: pg } = await driver("pg", () => import("pg"));
    const pool = new pg.Pool({ connectionString: address, max: 2 });
    return tried({ connection: pgConnection(pool), close: () => pool.end() }, address);
  }
  if (/^(?:mysql|mariadb):/.test(address)) {
    const { createPool } = await driver("mysql2", () => import("mysql2/promise"));
    const pool = createPool({ uri: address.replace(/^mariadb:/, "mysql:"), connectionLimit: 2 });
    return tried({ connection: mysql2Connection(pool), close: () => pool.end() }, address);
  }
  if (address.startsWith("pglite:")) {
    const folder = address.slice("pglite:".length);
    if (!existsSync(folder)) throw new CliError(`there is no folder ${folder}`);
    const { PGlite } = await driver("@electric-sql/pglite", () => import("@electric-sql/pglite"));
    const database = await PGlite.create(folder);
    return tried({ connection: pgliteConnection(database), close: () => database.close() }, address);
  }
  const file = address.replace(/^sqlite:(?:\/\/)?/, "");
  if (!existsSync(file)) throw new CliError(`there is no file ${file}`);
  const { default: driverOf } = await driver("node-sqlite3-wasm", () => import("node-sqlite3-wasm"));
  const database = new driverOf.Database(file, { readOnly: use === "read" });
  return tried({ connection: sqliteConnection(database), close: async () => database.close() }, address);
}

/** An empty database in this process, for a script that makes tables. */
export async function openEmpty(
  dialect: "postgres" | "sqlite",
): Promise<OpenDatabase & { run(script: string): Promise<unknown> }> {
  if (dialect === "sqlite") {
    const { default: driverOf } = await driver("node-sqlite3-wasm", () => import("node-sqlite3-wasm"));
    const database = new driverOf.Database();
    const close = async () => database.close();
    return { connection: sqliteConnection(database), close, run: async (script) => database.exec(script) };
  }
  const { PGlite } = await driver("@electric-sql/pglite", () => import("@electric-sql/pglite"));
  const database = await emptyPostgres(PGlite);
  return {
    connection: pgliteConnection(database),
    close: () => database.close(),
    run: (script) => database.exec(script),
  };
}

/** Opens a database for as long as work takes. */
export async function withDatabase<T>(
  address: string,
  work: (open: OpenDatabase) => Promise<T>,
  use: DatabaseUse = "read",
): Promise<T> {
  return closing(await openAddress(address, use), work);
}

export async function closing<O extends OpenDatabase, T>(open: O, work: (open: O) => Promise<T>): Promise<T> {
  try {
    return await work(open);
  } finally {
    await open.close();
  }
}

async function driver<T>(name: string, load: () => Promise<T>): Promise<T> {
  try {
    return await load();
  } catch (error) {
    if ((error as { code?: string }).code !== "ERR_MODULE_NOT_FOUND") throw error;
    throw new CliError(`this needs the package ${name}, which is not installed: npm install ${name}`);
  }
}

/** Says at once, and without the password, when a database does not answer. */
async function tried(open: OpenDatabase, address: string): Promise<OpenDatabase> {
  try {
    await open.connection.query("select 1 as one", []);
    return open;
  } catch (error) {
    await open.close().catch(() => {});
    const { message, code } = error as { message?: string; code?: string };
    throw new CliError(`${withoutPassword(address)} does not answer: ${message || code || String(error)}`);
  }
}

export function withoutPassword(address: string): string {
  return address.replace(/^(\w+:\/\/[^/:@]*):[^/@]*@/, "$1@");
}
