import { PGlite } from "@electric-sql/pglite";
import { createConnection } from "mysql2/promise";
import sqliteModule from "node-sqlite3-wasm";
import pg from "pg";
import type { Row } from "portier";
import { type Dialect, mariadb, postgres, postgresTexts, sqlite } from "portier/sql";
import type { Field, Schema, Table } from "../../src/schema/schema.js";
import type { FieldType } from "../../src/schema/types/field-type.js";

/** A database of its own for a test file. */
export interface Engine {
  readonly dialect: Dialect;
  readonly run: (text: string, params?: readonly unknown[]) => Promise<Record<string, unknown>[]>;
  readonly close: () => Promise<void>;
  /** The type of a field's column. */
  readonly columnType: (field: Field) => string;
  /** Something that a column of this type can hold and that does not fit it; undefined where there is nothing. */
  readonly misfit: (type: FieldType) => unknown;
}

/** The engines of this machine: those that are embedded always, servers where the test command found them. */
export const engines: Readonly<Record<string, (() => Promise<Engine>) | undefined>> = {
  SQLite: openSqlite,
  PGlite: openPglite,
  PostgreSQL: process.env["PORTIER_POSTGRES"] === undefined ? undefined : openPostgres,
  MariaDB: process.env["PORTIER_MARIADB"] === undefined ? undefined : openMariadb,
};

const freeName = () => `portier_${process.pid}_${Math.floor(Math.random() * 2 ** 31)}`;
const sameText = (text: string) => text;

/** Texts in a collation that is not the order of code points, so that a missing "collate" shows. */
function postgresType(text: string): Engine["columnType"] {
  const scalar = ({ base }: FieldType): string => {
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
  const database = await PGlite.create();
  const parsers = Object.fromEntries([20, ...postgresTexts].map((type) => [type, sameText]));
  return {
    dialect: postgres,
    run: async (text, params = []) =>
      (await database.query<Record<string, unknown>>(text, [...params], { parsers })).rows,
    close: () => database.close(),
    columnType: postgresType("text"),
    misfit: postgresMisfit,
  };
}

async function openPostgres(): Promise<Engine> {
  const client = new pg.Client({ connectionString: process.env["PORTIER_POSTGRES"] });
  await client.connect();
  const schema = freeName();
  await client.query(`create schema ${schema}; set search_path to ${schema}; set time zone 'Pacific/Auckland'`);
  const getTypeParser = (type: number) => (postgresTexts.includes(type) ? sameText : pg.types.getTypeParser(type));
  return {
    dialect: postgres,
    run: async (text, params = []) =>
      (await client.query<Record<string, unknown>>({ text, values: [...params], types: { getTypeParser } })).rows ?? [],
    close: async () => {
      await client.query(`drop schema ${schema} cascade`);
      await client.end();
    },
    columnType: postgresType('text collate "en-x-icu"'),
    misfit: postgresMisfit,
  };
}

async function openMariadb(): Promise<Engine> {
  const name = freeName();
  const connection = await createConnection({
    uri: process.env["PORTIER_MARIADB"] as string,
    dateStrings: true,
    charset: "utf8mb4",
  });
  await connection.query(`create database ${name} character set utf8mb4`);
  await connection.query(`use ${name}`);
  // Without it, a day that is none could not be stored for the test.
  await connection.query("set sql_mode = ''");
  return {
    dialect: mariadb,
    run: async (text, params = []) => {
      const [rows] = await connection.execute(text, [...params] as string[]);
      return Array.isArray(rows) ? (rows as Record<string, unknown>[]) : [];
    },
    close: async () => {
      await connection.query(`drop database ${name}`);
      await connection.end();
    },
    // In the server's own collation, which ignores case and spaces at the end.
    columnType: ({ type }) => {
      const types = { integer: "bigint", decimal: "decimal(30, 10)", timestamp: "datetime(6)", list: "json" } as const;
      return (
        types[type.base as "list"] ?? { text: "varchar(200)", choice: "varchar(20)" }[type.base as "text"] ?? type.base
      );
    },
    misfit: ({ base, element, choices }) => {
      if (choices !== undefined) return "lost";
      if (element !== undefined) return '["a", null]';
      return { boolean: 2, date: "0000-00-00", timestamp: "2027-02-00 00:00:00" }[base as "date"];
    },
  };
}

async function openSqlite(): Promise<Engine> {
  const database = new sqliteModule.Database();
  return {
    dialect: sqlite,
    run: async (text, params = []) => database.all(text, [...params] as string[]) as Record<string, unknown>[],
    close: async () => database.close(),
    columnType: ({ type: { base } }) => {
      if (base === "integer" || base === "boolean") return "integer";
      return base === "text" || base === "choice" ? "text collate nocase" : "text";
    },
    misfit: ({ base, element, choices }) => {
      if (choices !== undefined) return "lost";
      if (element !== undefined) return '["a", null]';
      return { integer: 1.5, boolean: 7, decimal: "1e3", date: "2027-02-30", timestamp: "noon" }[base as "date"];
    },
  };
}

/** A table for each of a document's, empty. */
export async function createTables(engine: Engine, schema: Schema): Promise<void> {
  for (const table of schema.tables.values()) {
    const columns = stored(table).map(
      (field) => `${engine.dialect.quoteName(field.column)} ${engine.columnType(field)}`,
    );
    await engine.run(`create table ${engine.dialect.quoteName(table.source)} (${columns.join(", ")})`);
  }
}

/** Puts records into a table in place of those that are there, and gives back what the database then holds. */
export async function store(engine: Engine, table: Table, rows: readonly Row[]): Promise<Row[]> {
  const fields = stored(table);
  const { dialect, run } = engine;
  const source = dialect.quoteName(table.source);
  const names = fields.map((field) => dialect.quoteName(field.column)).join(", ");
  await run(`delete from ${source}`);
  if (rows.length > 0) {
    const params = rows.flatMap((row) => fields.map((field) => storable(engine, field, row[field.name])));
    const places = params.map((_, index) => dialect.placeholder(index + 1));
    const lines = rows.map((_, at) => `(${places.slice(at * fields.length, (at + 1) * fields.length).join(", ")})`);
    await run(`insert into ${source} (${names}) values ${lines.join(", ")}`, params);
  }
  const found = await run(`select ${names} from ${source}`);
  const decoded = (row: Row) => fields.map(({ name, type, column }) => [name, dialect.decode(type, row[column])]);
  return found.map((row) => Object.fromEntries(decoded(row)));
}

function stored(table: Table): readonly Field[] {
  return table.fields.filter((field) => field.lookup === undefined && field.by === undefined);
}

/** The value, or one that does not fit in the engine's own way; null where its column cannot hold any. */
function storable({ dialect, misfit }: Engine, { type }: Field, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  return type.fits(value) ? dialect.encode(type, value) : (misfit(type) ?? null);
}
