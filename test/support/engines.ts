import { createPool } from "mysql2/promise";
import sqliteModule from "node-sqlite3-wasm";
import pg from "pg";
import type { Row } from "portier";
import type { Connection } from "portier/database";
import { mysql2Connection } from "portier/mysql2";
import { pgConnection } from "portier/pg";
import { pgliteConnection } from "portier/pglite";
import type { Dialect } from "portier/sql";
import { sqliteConnection } from "portier/sqlite";
import { embeddedPostgres } from "../../examples/museum/embedded-postgres.mjs";
import { type Field, isOwn, keptTablesOf, type Schema, type Table } from "../../src/schema/schema.js";
import type { FieldType } from "../../src/schema/types/field-type.js";
import { storedForm } from "../../src/schema/types/stored-form.js";

/** A database of its own for a test file. */
export interface Engine {
  readonly dialect: Dialect;
  readonly connection: Connection;
  readonly run: (text: string, params?: readonly unknown[]) => Promise<readonly Readonly<Record<string, unknown>>[]>;
  readonly close: () => Promise<unknown>;
  /** The type of a field's column. */
  readonly columnType: (field: Field) => string;
  /** Something that a column of this type can hold and that does not fit it; undefined where there is nothing. */
  readonly misfit: (type: FieldType) => unknown;
  /** Another form in which some values are stored here; undefined for the others. */
  readonly otherForm?: (type: FieldType, value: unknown) => unknown;
  /** How a command finds it; undefined where it lives in this process. */
  readonly address?: string;
  /** Runs several statements that take no parameters. PostgreSQL alone. */
  readonly script?: (text: string) => Promise<unknown>;
  /** The schema of a server's database that is this engine's own. */
  readonly schema?: string;
  /** Cuts the link that a statement runs on; undefined where the database lives in this process. */
  readonly cut?: string;
}

/** The engines of this machine: those that are embedded always, servers where the test command found them. */
export const engines: Readonly<Record<string, () => Promise<Engine>>> = {
  SQLite: openSqlite,
  PGlite: openPglite,
  ...(process.env["PORTIER_POSTGRES"] === undefined ? {} : { PostgreSQL: openPostgres }),
  ...(process.env["PORTIER_MARIADB"] === undefined ? {} : { MariaDB: openMariadb }),
};

/** Those of them that other programs reach, too. */
export const servers = Object.entries(engines).filter(([name]) => name === "PostgreSQL" || name === "MariaDB");

const freeName = () => `portier_${process.pid}_${Math.floor(Math.random() * 2 ** 31)}`;

function engine(connection: Connection, more: Omit<Engine, "connection" | "dialect" | "run">): Engine {
  const run: Engine["run"] = (text, params = []) => connection.query(text, params);
  return { connection, dialect: connection.dialect, run, ...more };
}

/** Texts in a collation that is not the order of code points, so that a missing "collate" shows. */
export function postgresType(text: string): Engine["columnType"] {
  const scalar = ({ base, zone }: FieldType): string => {
    if (zone !== undefined) return "timestamp";
    if (base === "text" || base === "choice") return text;
    return { integer: "bigint", decimal: "numeric", timestamp: "timestamptz", json: "jsonb" }[base as "json"] ?? base;
  };
  return ({ type }) => (type.element === undefined ? scalar(type) : `${scalar(type.element).split(" ")[0]}[]`);
}

function postgresMisfit({ base, element, choices }: FieldType): unknown {
  if (choices !== undefined) return "lost";
  if (element !== undefined) return [null];
  return { decimal: "NaN", date: "infinity", timestamp: "-infinity" }[base as "date"];
}

async function openPglite(): Promise<Engine> {
  const database = await embeddedPostgres();
  const close = () => database.close();
  return engine(pgliteConnection(database), {
    close,
    columnType: postgresType("text"),
    misfit: postgresMisfit,
    script: (text) => database.exec(text),
  });
}

async function openPostgres(): Promise<Engine> {
  const connectionString = process.env["PORTIER_POSTGRES"] as string;
  const schema = freeName();
  const options = `-c search_path=${schema} -c timezone=Pacific/Auckland -c lock_timeout=2000 -c jit=off`;
  const pool = new pg.Pool({ connectionString, options });
  // A link that is cut while it rests is not a matter.
  pool.on("error", () => {});
  await pool.query(`create schema ${schema}`);
  return engine(pgConnection(pool), {
    close: async () => {
      await pool.query(`drop schema ${schema} cascade`);
      await pool.end();
    },
    columnType: postgresType('text collate "en-x-icu"'),
    misfit: postgresMisfit,
    address: `${connectionString}?options=${encodeURIComponent(options)}`,
    schema,
    script: (text) => pool.query(text),
    cut: "select pg_terminate_backend(pg_backend_pid())",
  });
}

/** A login of its own on the server, as another program would have. */
export async function postgresLogin(user: string): Promise<pg.Client> {
  const address = new URL(process.env["PORTIER_POSTGRES"] as string);
  address.username = user;
  address.password = "made-up";
  const client = new pg.Client({ connectionString: address.href });
  await client.connect();
  return client;
}

async function openMariadb(): Promise<Engine> {
  const name = freeName();
  const setup = createPool({ uri: process.env["PORTIER_MARIADB"] as string });
  await setup.query(`create database ${name} character set utf8mb4`);
  await setup.end();
  const uri = new URL(process.env["PORTIER_MARIADB"] as string);
  uri.pathname = `/${name}`;
  const pool = createPool({ uri: uri.href, charset: "utf8mb4" });
  pool.on("connection", (link) => {
    // Without the first, a day that is none could not be stored for the test.
    link.query("set sql_mode = ''");
    link.query("set innodb_lock_wait_timeout = 2");
  });
  return engine(mysql2Connection(pool), {
    close: async () => {
      await pool.query(`drop database ${name}`);
      await pool.end();
    },
    // In the server's own collation, which ignores case and spaces at the end.
    columnType: ({ type }) => {
      const types = { integer: "bigint", decimal: "decimal(30, 10)", timestamp: "datetime(6)", list: "json" } as const;
      const texts = { text: "varchar(200)", choice: "varchar(20)" } as const;
      return types[type.base as "list"] ?? texts[type.base as "text"] ?? type.base;
    },
    misfit: ({ base, element, choices }) => {
      if (choices !== undefined) return "lost";
      if (element !== undefined) return '["a", null]';
      return { boolean: 2, date: "0000-00-00", timestamp: "2027-02-00 00:00:00" }[base as "date"];
    },
    address: uri.href,
    cut: "kill connection_id()",
  });
}

async function openSqlite(): Promise<Engine> {
  const database = new sqliteModule.Database();
  return engine(sqliteConnection(database), {
    close: async () => database.close(),
    columnType: ({ type: { base } }) => {
      if (base === "integer" || base === "boolean") return "integer";
      // Without an affinity, so that it holds texts, integers and reals as they are given.
      if (base === "decimal") return "";
      return base === "text" || base === "choice" ? "text collate nocase" : "text";
    },
    misfit: ({ base, element, choices }) => {
      if (choices !== undefined) return "lost";
      if (element !== undefined) return '["a", null]';
      if (base === "text") return new Uint8Array([1]);
      return { integer: 1.5, boolean: 7, decimal: 0.1 + 0.2, date: "2027-02-30", timestamp: "noon" }[base as "date"];
    },
    otherForm: ({ base }, value) =>
      base === "decimal" && /^-?\d+\.\d$/.test(String(value)) ? Number(value) : undefined,
  });
}

/** A document's tables, and those that are kept beside it. */
export function allTables(schema: Schema): Table[] {
  return [...schema.tables.values(), ...keptTablesOf(schema)];
}

/** A table for each of a document's, empty. */
export async function createTables(engine: Engine, schema: Schema): Promise<void> {
  for (const table of allTables(schema)) {
    const columns = stored(table).map(
      (field) => `${engine.dialect.quoteName(field.column)} ${engine.columnType(field)}`,
    );
    const key = table.key.map((field) => engine.dialect.quoteName(field.column)).join(", ");
    const source = engine.dialect.quoteName(table.source);
    await engine.run(`create table ${source} (${columns.join(", ")}, primary key (${key}))`);
  }
}

/** Puts records into a table in place of those that are there, and gives back what the database then holds. */
export async function store(engine: Engine, table: Table, rows: readonly Row[]): Promise<Row[]> {
  await engine.run(`delete from ${engine.dialect.quoteName(table.source)}`);
  await fill(engine, table, rows);
  return held(engine, table);
}

/** The same for every table of a document. */
export async function storeAll(
  engine: Engine,
  schema: Schema,
  given: Readonly<Record<string, readonly Row[]>>,
): Promise<Record<string, Row[]>> {
  const data: Record<string, Row[]> = {};
  for (const table of allTables(schema)) {
    data[table.name] = await store(engine, table, given[table.name] ?? []);
  }
  return data;
}

/** Puts records into a table. */
export async function fill(engine: Engine, table: Table, rows: readonly Row[]): Promise<void> {
  const fields = stored(table);
  const { dialect, run } = engine;
  const source = dialect.quoteName(table.source);
  const names = fields.map((field) => dialect.quoteName(field.column)).join(", ");
  for (let at = 0; at < rows.length; at += 500) {
    const batch = rows.slice(at, at + 500);
    const params = batch.flatMap((row) => fields.map((field) => storable(engine, field, row[field.name])));
    const places = params.map((_, index) => dialect.placeholder(index + 1));
    const lines = batch.map(
      (_, line) => `(${places.slice(line * fields.length, (line + 1) * fields.length).join(", ")})`,
    );
    await run(`insert into ${source} (${names}) values ${lines.join(", ")}`, params);
  }
}

/** What a table holds. */
export async function held({ dialect, run }: Engine, table: Table): Promise<Row[]> {
  const fields = stored(table);
  const names = fields.map((field) => dialect.quoteName(field.column)).join(", ");
  const found = await run(`select ${names} from ${dialect.quoteName(table.source)}`);
  const decoded = (row: Row) => fields.map(({ name, type, column }) => [name, dialect.decode(type, row[column])]);
  return found.map((row) => Object.fromEntries(decoded(row)));
}

function stored(table: Table): readonly Field[] {
  return table.fields.filter(isOwn);
}

/** The value, or one that does not fit in the engine's own way; null where its column cannot hold any. */
function storable({ dialect, misfit, otherForm }: Engine, { type }: Field, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  const form = storedForm(type, value);
  if (form === undefined) return misfit(type) ?? null;
  return otherForm?.(type, form) ?? dialect.encode(type, form);
}
