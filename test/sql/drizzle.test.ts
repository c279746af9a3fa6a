import { PGlite } from "@electric-sql/pglite";
import { and, count, eq, isNotNull, sql } from "drizzle-orm";
import * as mysql from "drizzle-orm/mysql-core";
import * as pg from "drizzle-orm/pg-core";
import { drizzle } from "drizzle-orm/pglite";
import * as lite from "drizzle-orm/sqlite-core";
import { compile, type Row } from "portier";
import { drizzleTables, maskedColumns, whereSql } from "portier/drizzle";
import { pgliteConnection } from "portier/pglite";
import { createTables, postgres } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { allTables, type Engine, fill } from "../support/engines.js";
import { as, portier, records } from "../support/museum.js";

const objects = pg.pgTable("objects", {
  accession: pg.text().primaryKey(),
  title: pg.text().notNull(),
  label: pg.text(),
  status: pg.text().notNull(),
  insuredValue: pg.numeric("insured_value"),
  acquiredOn: pg.date("acquired_on"),
  unknown: pg.text("title_of_nobody"),
});

const database = new PGlite();
const db = drizzle(database);

beforeAll(async () => {
  const engine = { connection: pgliteConnection(database), dialect: postgres } as Engine;
  const run: Engine["run"] = (text, params = []) => engine.connection.query(text, params);
  const statements = createTables(portier.schema, postgres).filter((statement) => !statement.startsWith("alter"));
  for (const statement of statements) await run(statement);
  for (const table of allTables(portier.schema)) await fill({ ...engine, run }, table, records(table.name));
});
afterAll(() => database.close());

describe("a person's view in Drizzle", () => {
  it("is a condition beside others", async () => {
    const session = as("s-003");
    const found = await db
      .select({ accession: objects.accession })
      .from(objects)
      .where(and(eq(objects.status, "on_display"), whereSql(session, "objects", "edit", postgres)));
    const expected = records("objects").filter(
      (row) => row["status"] === "on_display" && session.may("edit", "objects", row),
    );
    expect(found.map(({ accession }) => accession).sort()).toEqual(expected.map((row) => row["accession"]).sort());
  });

  it("is a subquery of masked columns, to filter, sort and count in", async () => {
    for (const person of ["s-003", "s-005", undefined]) {
      const session = as(person);
      const seen = db
        .select(maskedColumns(session, "objects", objects, postgres))
        .from(objects)
        .where(whereSql(session, "objects", "list", postgres))
        .as("seen");
      const rows = await db.select().from(seen).orderBy(seen.insuredValue, seen.accession);
      const expected = session.maskAll("objects", records("objects")) as Row[];
      const names = { insuredValue: "insured_value", acquiredOn: "acquired_on" } as const;
      const plain = ["accession", "title", "label", "status"] as const;
      expect(new Map(rows.map((row) => [row.accession, row]))).toEqual(
        new Map(
          expected.map((row) => [
            row["accession"],
            {
              ...Object.fromEntries(plain.map((name) => [name, row[name] ?? null])),
              ...Object.fromEntries(Object.entries(names).map(([key, name]) => [key, row[name] ?? null])),
              // What the document does not declare is hidden, whatever the table says.
              unknown: null,
            },
          ]),
        ),
      );
      const [known] = await db.select({ n: count() }).from(seen).where(isNotNull(seen.insuredValue));
      expect(known?.n).toBe(expected.filter((row) => row["insured_value"] != null).length);
    }
  });
});

describe("a document's tables from Drizzle's", () => {
  it("have their types, keys, references, choices and defaults", () => {
    const kind = pg.pgEnum("kind", ["in", "out"]);
    const staff = pg.pgTable("staff", {
      id: pg.text().primaryKey(),
      manager: pg.text().references((): pg.AnyPgColumn => staff.id),
      active: pg.boolean().notNull().default(true),
    });
    const rooms = pg.pgTable("rooms", { floor: pg.integer(), door: pg.varchar({ length: 9 }) }, (table) => [
      pg.primaryKey({ columns: [table.floor, table.door] }),
    ]);
    const things = pg.pgTable(
      "things",
      {
        id: pg.serial().primaryKey(),
        kind: kind().notNull().default("in"),
        worth: pg.numeric("worth_now", { precision: 9, scale: 2 }),
        tags: pg.text().array(),
        made: pg.date(),
        entered: pg.timestamp({ withTimezone: true }).notNull().defaultNow(),
        extra: pg.jsonb(),
        floor: pg.integer(),
        door: pg.varchar({ length: 9 }),
        noted: pg.text().$defaultFn(() => "by the application"),
        twice: pg.integer().generatedAlwaysAs(sql`floor * 2`),
        keeper: pg.text().references(() => staff.id),
      },
      (table) => [pg.foreignKey({ columns: [table.door, table.floor], foreignColumns: [rooms.door, rooms.floor] })],
    );
    const tables = drizzleTables([staff, rooms, things], pg.getTableConfig);
    expect(tables).toEqual({
      staff: {
        key: "id",
        fields: {
          id: "text",
          manager: { reference: "staff", optional: true },
          active: { type: "boolean", default: true },
        },
      },
      rooms: { key: ["floor", "door"], fields: { floor: "integer", door: "text" } },
      things: {
        key: "id",
        fields: {
          id: { type: "integer", generated: true },
          kind: { choice: ["in", "out"], default: "in" },
          worth_now: { type: "decimal", optional: true },
          tags: { list: "text", optional: true },
          made: { type: "date", optional: true },
          entered: { type: "timestamp", generated: true },
          extra: { type: "json", optional: true },
          floor: { type: "integer", optional: true },
          door: { type: "text", optional: true },
          noted: { type: "text", optional: true },
          twice: { type: "integer", optional: true, computed: true },
          keeper: { reference: "staff", optional: true },
          rooms: { reference: "rooms", by: ["floor", "door"] },
        },
      },
    });
    expect(compile({ portier: 1, tables }).session({}).reach("view", "things")).toBe("none");
  });

  it("of SQLite and MySQL are read alike", () => {
    const one = lite.sqliteTable("one", {
      id: lite.integer().primaryKey(),
      open: lite.integer({ mode: "boolean" }).notNull(),
    });
    expect(drizzleTables([one], lite.getTableConfig)).toEqual({
      one: { key: "id", fields: { id: { type: "integer", generated: true }, open: "boolean" } },
    });
    const two = mysql.mysqlTable("two", {
      id: mysql.int().autoincrement().primaryKey(),
      kind: mysql.mysqlEnum(["a", "b"]),
    });
    expect(drizzleTables([two], mysql.getTableConfig)).toEqual({
      two: {
        key: "id",
        fields: { id: { type: "integer", generated: true }, kind: { choice: ["a", "b"], optional: true } },
      },
    });
  });

  it("are refused where a document has no words for them, unless they are left out by name", () => {
    const table = pg.pgTable("things", { id: pg.text().primaryKey(), weight: pg.doublePrecision() });
    expect(() => drizzleTables([table], pg.getTableConfig)).toThrow(/column "weight" of "things": double precision/);
    expect(drizzleTables([table], pg.getTableConfig, { without: ["things.weight"] })).toEqual({
      things: { key: "id", fields: { id: "text" } },
    });
    const keyless = pg.pgTable("log", { at: pg.text() });
    expect(() => drizzleTables([keyless], pg.getTableConfig)).toThrow(/table "log": it has no key/);
  });
});
