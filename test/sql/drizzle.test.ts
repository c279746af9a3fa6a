import { and, count, eq, isNotNull, relations, sql } from "drizzle-orm";
import * as mysql from "drizzle-orm/mysql-core";
import * as pg from "drizzle-orm/pg-core";
import { drizzle } from "drizzle-orm/pglite";
import * as lite from "drizzle-orm/sqlite-core";
import { compile, type Row } from "portier";
import { drizzleTables, fenced, maskedColumns, whereSql } from "portier/drizzle";
import { pgliteConnection } from "portier/pglite";
import { createTables, postgres } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { embeddedPostgres } from "../../examples/museum/embedded-postgres.mjs";
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

const database = await embeddedPostgres();
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
      .where(and(eq(objects.status, "on_display"), whereSql(session, "objects", "edit", objects, postgres)));
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
        .where(whereSql(session, "objects", "list", objects, postgres))
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

const staff = pg.pgTable("staff", {
  id: pg.text().primaryKey(),
  name: pg.text().notNull(),
  post: pg.text(),
  department: pg.text(),
  salary: pg.numeric(),
  manager: pg.text(),
});
const staffRelations = relations(staff, ({ one, many }) => ({
  boss: one(staff, { fields: [staff.manager], references: [staff.id], relationName: "line" }),
  team: many(staff, { relationName: "line" }),
}));
const related = drizzle(database, { schema: { staff, staffRelations } });

// Conditions were made for the table's own name, and in a nested relation of a table to itself that is the outer row.
describe("a person's view of a table that stands in a statement twice", () => {
  const people = ["s-002", "s-003", "s-008", "s-010"];
  const listed = (person: string) => as(person).maskAll("staff", records("staff")) as Row[];

  it("is for the alias that the condition stands beside", async () => {
    for (const person of people) {
      const session = as(person);
      const boss = pg.alias(staff, "boss");
      const pairs = await db
        .select({ id: staff.id, boss: boss.id, salary: maskedColumns(session, "staff", boss, postgres).salary })
        .from(staff)
        .leftJoin(boss, and(eq(boss.id, staff.manager), whereSql(session, "staff", "list", boss, postgres)))
        .where(whereSql(session, "staff", "list", staff, postgres));
      const seen = new Map(listed(person).map((row) => [row["id"], row]));
      expect(pairs.map(({ id }) => id).sort()).toEqual([...seen.keys()].sort());
      for (const pair of pairs) {
        const manager = records("staff").find(({ id }) => id === pair.id)?.["manager"];
        expect(pair.boss).toBe(seen.has(manager) ? manager : null);
        expect(pair.salary ?? null).toBe(seen.get(pair.boss)?.["salary"] ?? null);
      }
    }
  });

  it("is for the inner row of a nested relation of a table to itself", async () => {
    for (const person of people) {
      const session = as(person);
      const found = await related.query.staff.findMany({
        columns: { id: true },
        where: (row) => whereSql(session, "staff", "list", row, postgres),
        with: { team: { columns: { id: true }, where: (row) => whereSql(session, "staff", "list", row, postgres) } },
      });
      const seen = new Set(listed(person).map(({ id }) => id));
      for (const { id, team } of found) {
        const below = records("staff").filter((row) => row["manager"] === id && seen.has(row["id"]));
        expect(team.map((row) => row.id).sort()).toEqual(below.map((row) => row["id"]).sort());
      }
      expect(found.map(({ id }) => id).sort()).toEqual([...seen].sort());
    }
  });

  it("is refused for another table than the document's", () => {
    expect(() => whereSql(as("s-003"), "objects", "list", staff, postgres)).toThrow(/this is the table "staff"/);
    expect(() => maskedColumns(as("s-003"), "staff", objects, postgres)).toThrow(/this is the table "objects"/);
    expect(() => whereSql(as("s-003"), "objects", "list", {}, postgres)).toThrow(/No Drizzle table was passed/);
  });

  it("lets no filter fail on a record that is not seen, in a subquery that is fenced", async () => {
    const session = as("s-003");
    const select = db
      .select(maskedColumns(session, "objects", objects, postgres))
      .from(objects)
      .where(and(whereSql(session, "objects", "list", objects, postgres), eq(objects.accession, "BM-SH-0003")));
    // Fails on every title, so on none but those that are reached.
    const failing = (seen: { title: unknown }) =>
      sql`cast(replace(${seen.title}, 'Bell of the Good Intent', '1') as integer) = 1`;
    const fencedOne = select.limit(fenced).as("seen");
    expect(await db.select({ n: count() }).from(fencedOne).where(failing(fencedOne))).toEqual([{ n: 1 }]);
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
