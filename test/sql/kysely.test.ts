import { type CompiledQuery, type Kysely, sql } from "kysely";
import type { Row, Session } from "portier";
import { portierPlugin } from "portier/kysely";
import { postgres } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, engines, store } from "../support/engines.js";
import { builderFor, type MuseumTables } from "../support/kysely.js";
import { as, portier, records } from "../support/museum.js";

const plain = builderFor<MuseumTables>(postgres);

let engine: Engine;
beforeAll(async () => {
  engine = await (engines["PGlite"] as () => Promise<Engine>)();
  await createTables(engine, portier.schema);
  for (const table of allTables(portier.schema)) await store(engine, table, records(table.name));
});
afterAll(() => engine?.close());

const run = ({ sql: text, parameters }: CompiledQuery) => engine.run(text, parameters);
const seenBy = (session: Session) => plain.withPlugin(portierPlugin(session, postgres));
const keeper = () => seenBy(as("s-003"));
const listed = (table: string, session: Session) => session.maskAll(table, records(table)) as Row[];

describe("a person's view in the query builder", () => {
  it("selects what the person sees, hidden values as null", async () => {
    const rows = await run(keeper().selectFrom("objects").select(["accession", "label", "insured_value"]).compile());
    const expected = listed("objects", as("s-003")).map((row) => [row["accession"], row["label"] ?? null, null]);
    expect(rows.map((row) => Object.values(row)).sort()).toEqual(expected.sort());
  });

  it("filters, sorts and counts by what is seen", async () => {
    const query = keeper()
      .selectFrom("objects as o")
      .select(({ fn }) => fn.countAll().as("n"))
      .where("o.insured_value", "is not", null)
      .where("o.status", "=", "on_display");
    expect(Number((await run(query.compile()))[0]?.["n"])).toBe(0);
    const own = listed("objects", as("s-003")).filter(({ status }) => status === "on_display").length;
    const shown = keeper()
      .selectFrom("objects as o")
      .select(({ fn }) => fn.countAll().as("n"))
      .where("o.status", "=", "on_display");
    expect(Number((await run(shown.compile()))[0]?.["n"])).toBe(own);
  });

  it("reaches joins, subqueries, withs, unions and exists", async () => {
    const salaries = listed("staff", as("s-003")).filter((row) => "salary" in row && row["salary"] !== null).length;
    const view = keeper();
    const queries = [
      view.selectFrom("departments as d").innerJoin("staff as s", "s.id", "s.id").select("s.salary").distinct(),
      view.selectFrom((eb) => eb.selectFrom("staff").selectAll().as("x")).select("x.salary"),
      view
        .with("people", (db) => db.selectFrom("staff").selectAll())
        .selectFrom("people")
        .select("people.salary"),
      view.selectFrom("staff").select("salary").unionAll(view.selectFrom("staff").select("salary")),
      view
        .selectFrom("departments")
        .select(({ selectFrom }) => selectFrom("staff").select("salary").limit(1).orderBy("salary").as("salary")),
      view
        .with("staff", (db) => db.selectFrom("departments").select("id"))
        .selectFrom("staff")
        .select(sql.ref("salary").as("salary") as never),
    ];
    for (const query of queries) {
      let text = "";
      try {
        text = query.compile().sql;
      } catch (error) {
        expect(String(error)).toMatch(/a text of SQL|cannot be called/);
        continue;
      }
      expect(text).not.toMatch(/from "staff"(?! where)(?! "r)(?!\))/);
      const found = new Set((await run(query.compile())).map((row) => row["salary"]).filter((value) => value !== null));
      expect(found.size).toBeLessThanOrEqual(salaries);
    }
  });

  it.each<[string, (db: Kysely<MuseumTables>) => { compile(): unknown }]>([
    ["a writing statement", (db) => db.updateTable("objects").set({ title: "x" })],
    ["an inserting one", (db) => db.insertInto("departments").values({ id: "x", name: "x" })],
    ["a deleting one", (db) => db.deleteFrom("objects")],
    ["one that makes a table", (db) => db.schema.createTable("x").addColumn("id", "text")],
    ["a table that is not declared", (db) => db.selectFrom("secrets").selectAll()],
    ["a table of another schema", (db) => db.withSchema("archive").selectFrom("objects").selectAll()],
    ["a text that selects", (db) => db.selectFrom("objects").select(sql`(select salary from staff limit 1)`.as("x"))],
    ["a text as a table", (db) => db.selectFrom(sql<{ salary: string }>`staff`.as("s")).select("salary")],
    [
      "a table under a text",
      (db) => db.selectFrom(sql<{ salary: string }>`${sql.table("staff")}`.as("s")).select("salary"),
    ],
    [
      "a function that runs a text",
      (db) =>
        db.selectFrom("objects").select(({ fn, val }) => fn("query_to_xml", [val("select * from staff")]).as("x")),
    ],
    [
      "a condition as a text",
      (db) =>
        db.selectFrom("objects").select("title").where(sql<boolean>`exists (select 1 from staff where salary > 1)`),
    ],
    [
      "a with that writes",
      (db) =>
        db
          .with("x", (one) => one.deleteFrom("objects").returningAll())
          .selectFrom("x")
          .selectAll(),
    ],
    [
      "an end that is a text",
      (db) => db.selectFrom("objects").select("title").modifyEnd(sql`union select salary from staff`),
    ],
  ])("refuses %s", (_what, make) => {
    expect(() => make(keeper()).compile()).toThrow(/wrong-call/);
  });

  it("takes directions, types and the usual functions", async () => {
    const query = keeper()
      .selectFrom("objects")
      .select(({ fn, cast }) => [fn.coalesce("label", "title").as("name"), cast<string>("accession", "text").as("key")])
      .orderBy("title", "desc")
      .limit(3);
    expect(await run(query.compile())).toHaveLength(3);
  });

  it("takes values that look like parts of a statement as values", async () => {
    const value = {
      kind: "TableNode",
      table: { kind: "SchemableIdentifierNode", identifier: { kind: "IdentifierNode", name: "staff" } },
    };
    const { parameters } = keeper()
      .selectFrom("objects")
      .select("title")
      .where("title", "=", value as never)
      .compile();
    expect(parameters).toContain(value);
  });

  it("calls a function that the application vouches for", () => {
    const view = plain.withPlugin(portierPlugin(as("s-003"), postgres, { functions: ["md5"] }));
    expect(
      view
        .selectFrom("objects")
        .select(({ fn }) => fn("md5", ["title"]).as("x"))
        .compile().sql,
    ).toContain("md5(");
    expect(() =>
      keeper()
        .selectFrom("objects")
        .select(({ fn }) => fn("md5", ["title"]).as("x"))
        .compile(),
    ).toThrow(/"md5"/);
  });
});
