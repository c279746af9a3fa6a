import { readFileSync } from "node:fs";
import { createPool } from "mysql2/promise";
import sqliteModule from "node-sqlite3-wasm";
import pg from "pg";
import { compile, type Row } from "portier";
import { createTables, type Dialect, mariadb, postgres, sqlite } from "portier/sql";
import { afterAll, afterEach, describe, expect, it } from "vitest";
import { embeddedPostgres } from "../../examples/museum/embedded-postgres.mjs";
import { type Field, isOwn } from "../../src/schema/schema.js";

// What a row of the application's own statement comes to: each driver with the settings that it has by itself.
type Query = (text: string, params?: readonly unknown[]) => Promise<readonly Row[]>;
interface Driver {
  readonly dialect: Dialect;
  readonly open: () => Promise<{ readonly query: Query; readonly close: () => Promise<unknown> }>;
}

const { PORTIER_POSTGRES: postgresAddress, PORTIER_MARIADB: mariadbAddress } = process.env;
const name = `portier_rows_${process.pid}`;

const openPg = async () => {
  const client = new pg.Client({ connectionString: postgresAddress });
  await client.connect();
  await client.query(`create schema ${name}; set search_path to ${name}`);
  const close = () => client.query(`drop schema ${name} cascade`).then(() => client.end());
  const query: Query = async (text, params = []) => (await client.query(text, [...params])).rows as Row[];
  return { query, close };
};

const openMysql2 = (settings: object) => async () => {
  const pool = createPool({ uri: mariadbAddress as string, ...settings });
  await pool.query(`create database ${name}`);
  await pool.end();
  const own = createPool({ uri: `${String(mariadbAddress).replace(/[^/]*$/, "")}${name}`, ...settings });
  const close = () => own.query(`drop database ${name}`).then(() => own.end());
  const query: Query = async (text, params = []) => (await own.query(text, [...params]))[0] as Row[];
  return { query, close };
};

const openPglite = async () => {
  const database = await embeddedPostgres();
  const query: Query = async (text, params = []) => (await database.query(text, [...params])).rows as Row[];
  return { query, close: () => database.close() };
};

const openWasm = async () => {
  const database = new sqliteModule.Database();
  const query: Query = async (text, params = []) => database.all(text, [...params] as never) as Row[];
  return { query, close: async () => database.close() };
};

const builtIn = (await import("node:sqlite" as string).catch(() => undefined)) as
  | { DatabaseSync: new (path: string) => { prepare(text: string): { all(...params: unknown[]): Row[] } } }
  | undefined;
const openBuiltIn = async () => {
  const database = new (builtIn as NonNullable<typeof builtIn>).DatabaseSync(":memory:");
  const query: Query = async (text, params = []) => database.prepare(text).all(...params);
  return { query, close: async () => {} };
};

const drivers: Readonly<Record<string, Driver>> = {
  pglite: { dialect: postgres, open: openPglite },
  "node-sqlite3-wasm": { dialect: sqlite, open: openWasm },
  ...(builtIn && { "node:sqlite": { dialect: sqlite, open: openBuiltIn } }),
  ...(postgresAddress && { pg: { dialect: postgres, open: openPg } }),
  ...(mariadbAddress && {
    mysql2: { dialect: mariadb, open: openMysql2({}) },
    'mysql2, `timezone: "Z"`': { dialect: mariadb, open: openMysql2({ timezone: "Z" }) },
    "mysql2, `dateStrings`": { dialect: mariadb, open: openMysql2({ dateStrings: true }) },
  }),
};

const samples: Readonly<Record<string, readonly unknown[]>> = {
  text: ["BM-1", "5", "{a}"],
  choice: ["on display", "lost"],
  integer: [5, -7, 9007199254740991],
  decimal: ["1200.5", "-0.25", "7", "123456789012345678.25"],
  boolean: [true, false],
  date: ["2027-01-31", "1880-01-31", "2018-11-04", "9999-12-31"],
  timestamp: ["2027-01-31T09:00:00.123456Z", "1880-01-31T09:00:00.000001Z", "2027-07-31T21:30:00.000000Z"],
  json: [{ a: [1, "b"] }, [1], "a"],
};
const listed = ["text", "integer", "decimal", "boolean", "date", "timestamp"];
const typeOf = (type: string) => (type === "choice" ? { choice: samples["choice"] } : { type });
const own = Object.keys(samples).map((type) => [type, { ...typeOf(type), optional: true }] as const);
const lists = listed.map((type) => [`list of ${type}`, { list: type, optional: true }] as const);
const fields = [...own, ...lists];
const portier = compile({
  portier: 1,
  tables: {
    things: {
      fields: { id: "text", ...Object.fromEntries(fields.map(([name, field]) => [name.replaceAll(" ", "_"), field])) },
      key: "id",
      rules: { all: { to: ["anyone"], permit: { view: "all" } } },
    },
  },
} as never);
const columns = [...(portier.schema.tables.get("things")?.fields ?? [])].filter(isOwn).slice(1);
const samplesOf = ({ name }: Field) =>
  name.startsWith("list_of_") ? samples[name.slice(8)]?.map((one) => [one, one]) : samples[name];

/** What has become of a value: words that the page has, too. */
function outcome(field: Field, value: unknown, shown: unknown): string {
  if (shown === undefined) return "hidden";
  const canonical = (one: unknown) => String(field.type.canonical(one));
  if (canonical(shown) === canonical(value)) return "exact";
  const short = (one: unknown) => canonical(one).replaceAll(/\d{3}Z/g, "000Z");
  if (short(shown) === short(value)) return "to the millisecond";
  if (field.type.base === "json") return shown === JSON.stringify(value) ? "as text" : `wrong: ${String(shown)}`;
  // The database holds it in UTC, and the driver takes that for local time.
  const moved = (one: unknown) => `${new Date(String(one).slice(0, 23)).toISOString().slice(0, 23)}000Z`;
  return short(shown) === short(moved(value)) ? "local time" : `wrong: ${String(shown)} for ${String(value)}`;
}

/** What holds of every value of a type. */
function summary(outcomes: ReadonlySet<string>): string {
  if (outcomes.has("hidden") && outcomes.has("exact")) return "up to 15 digits";
  const found = ["hidden", "local time", "to the millisecond", "as text", "exact"].find((one) => outcomes.has(one));
  return [...outcomes].find((one) => one.startsWith("wrong")) ?? String(found);
}

const zone = process.env["TZ"];
afterEach(() => {
  if (zone === undefined) delete process.env["TZ"];
  else process.env["TZ"] = zone;
});

const page = readFileSync(new URL("../../docs/rows.md", import.meta.url), "utf8");
const cells = (line: string) =>
  line
    .split("|")
    .slice(1, -1)
    .map((cell) => cell.trim());
const lines = page.split("\n").filter((line) => line.startsWith("| "));
const head = lines.find((line) => line.includes("pglite")) ?? "";
const said = new Map(lines.slice(lines.indexOf(head)).map((line) => [cells(line)[0], cells(line)]));

describe.each(Object.entries(drivers))("rows as %s gives them", (driver, { dialect, open }) => {
  let opened: Awaited<ReturnType<typeof open>>;
  afterAll(() => opened?.close());

  it("are read as the page says, in every time zone", async () => {
    opened = await open();
    const { query } = opened;
    for (const statement of createTables(portier.schema, dialect)) await query(statement);
    const rows = [0, 1, 2, 3].map((at) => columns.map((field) => samplesOf(field)?.[at] ?? null));
    for (const [at, row] of rows.entries()) {
      const values = [String(at), ...row.map((value, index) => dialect.encode((columns[index] as Field).type, value))];
      const places = values.map((_, index) => dialect.placeholder(index + 1)).join(", ");
      await query(`insert into ${dialect.quoteName("things")} values (${places})`, values);
    }
    const found = new Map(columns.map((field) => [field, new Set<string>()]));
    for (const TZ of ["UTC", "Europe/Berlin", "America/Sao_Paulo", "Pacific/Auckland"]) {
      process.env["TZ"] = TZ;
      const diagnostics: (string | undefined)[] = [];
      const session = portier.session({ onDiagnostic: ({ field }) => diagnostics.push(field) });
      for (const row of await query("select * from things")) {
        const seen = session.mask("things", row) as Row;
        for (const [index, field] of columns.entries()) {
          const value = rows[Number(row["id"])]?.[index] ?? null;
          if (value === null) continue;
          const what = outcome(field, value, seen[field.name]);
          found.get(field)?.add(what);
          // Nothing is lost in silence.
          expect([driver, field.name, diagnostics.includes(field.name) || what !== "hidden"]).toContain(true);
        }
      }
    }
    const at = cells(head).indexOf(driver);
    expect(at).toBeGreaterThan(0);
    for (const [field, outcomes] of found) {
      expect([field.name, summary(outcomes)]).toEqual([field.name, said.get(field.name.replaceAll("_", " "))?.[at]]);
    }
  });
});

describe("a session that nobody listens to", () => {
  it("says the first value that it cannot read, and no other", () => {
    const said: string[] = [];
    const { warn } = console;
    console.warn = (text: string) => said.push(text);
    try {
      const session = portier.session();
      const mask = () =>
        session.maskAll(
          "things",
          [
            { id: "1", date: new Date(1) },
            { id: "2", integer: "five" },
          ],
          "view",
        );
      expect(mask()).toEqual([{ id: "1" }, { id: "2" }]);
      expect(said).toEqual([
        'Portier, bad data: "date" of a record of "things" is an object (Date), not a date such as "2027-01-31"; it counts as unknown and is not shown. Further diagnostics of this session are not printed: pass "onDiagnostic" to receive all of them.',
      ]);
      portier.session({ onDiagnostic: () => {} }).mask("things", { id: "1", date: 5 });
      expect(said).toHaveLength(1);
    } finally {
      console.warn = warn;
    }
  });
});
