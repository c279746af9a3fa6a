import { Kysely, sql } from "kysely";
import type { Row } from "portier";
import { ChangeRefused, portierDialect } from "portier/kysely";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import type { Table } from "../../src/schema/schema.js";
import { allTables, createTables, type Engine, engines, held, store } from "../support/engines.js";
import type { MuseumTables } from "../support/kysely.js";
import { as, portier, record, records } from "../support/museum.js";

const now = "2026-11-24T09:00:00Z";
const bell = "BM-SH-0003";
const loan = { id: "L-new", object: bell, borrower: "a museum", starts_on: "2027-01-01", ends_on: "2027-02-01" };

describe.each(Object.entries(engines))("a person at work with the query builder on %s", (_name, open) => {
  let engine: Engine;
  const tables = ["objects", "loans"].map((name) => portier.schema.tables.get(name) as Table);
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const table of allTables(portier.schema)) await store(engine, table, records(table.name));
  });
  beforeEach(async () => {
    for (const table of tables) await store(engine, table, records(table.name));
  });
  afterAll(() => engine?.close());

  const working = (person: string | null, more: { confirmed?: readonly string[] } = {}) =>
    new Kysely<MuseumTables>({
      dialect: portierDialect(portier, engine.connection, { person, request: { now } }, more),
    });
  const stored = async (table: string, key: string): Promise<Row | undefined> => {
    const declared = portier.schema.tables.get(table) as Table;
    return (await held(engine, declared)).find((row) => row[declared.key[0]?.name ?? ""] === key);
  };

  it("sees what the person sees", async () => {
    const rows = await working("s-003")
      .selectFrom("objects")
      .select(["accession", "status", "insured_value"])
      .execute();
    const seen = as("s-003").maskAll("objects", records("objects"));
    const expected = seen.map((row) => [row["accession"], row["status"] ?? null, row["insured_value"] ?? null]);
    expect(rows.map((row) => [row.accession, row.status, row.insured_value]).sort()).toEqual(expected.sort());
  });

  it("changes what may be changed, and returns what is then seen", async () => {
    const rows = await working("s-003")
      .updateTable("objects")
      .set({ label: "Rung in fog." })
      .where("accession", "=", bell)
      .returning(["title", "label as text", "insured_value"])
      .execute();
    expect(rows).toEqual([{ title: "Bell of the Good Intent", text: "Rung in fog.", insured_value: null }]);
    expect(await stored("objects", bell)).toMatchObject({ label: "Rung in fog." });
  });

  it.each<[string, (db: Kysely<MuseumTables>) => Promise<unknown>, object]>([
    [
      "a field that is not theirs",
      (db) => db.updateTable("objects").set({ insured_value: "1" }).where("accession", "=", bell).execute(),
      { table: "objects", key: bell, outcome: { reason: "refused", refusals: [{ field: "insured_value" }] } },
    ],
    [
      "many records, one of which is not theirs",
      (db) => db.updateTable("objects").set({ label: "x" }).execute(),
      { table: "objects", outcome: { reason: "refused" } },
    ],
    [
      "a new record of somebody else",
      (db) =>
        db
          .insertInto("loans")
          .values({ ...loan, requested_by: "s-001", status: "draft" })
          .execute(),
      { table: "loans", key: undefined, outcome: { reason: "refused" } },
    ],
    [
      "one of several new records",
      (db) =>
        db
          .insertInto("loans")
          .values([
            { ...loan, requested_by: "s-003", status: "draft" },
            { ...loan, id: "L-other", requested_by: "s-003", status: "approved" },
          ])
          .execute(),
      { table: "loans", outcome: { reason: "refused" } },
    ],
    [
      "a record that is not to go",
      (db) => db.deleteFrom("objects").where("accession", "=", bell).execute(),
      { table: "objects", key: bell, outcome: { reason: "refused" } },
    ],
  ])("is refused %s, and nothing is done", async (_what, change, expected) => {
    const before = await Promise.all(tables.map((table) => held(engine, table)));
    const error = await change(working("s-003")).catch((caught: unknown) => caught);
    expect(error).toBeInstanceOf(ChangeRefused);
    expect(error).toMatchObject(expected);
    expect(await Promise.all(tables.map((table) => held(engine, table)))).toEqual(before);
  });

  it("finds records by what is seen of them, and others not at all", async () => {
    const value = String(record("objects", bell)["insured_value"]);
    const byWorth = working("s-003").updateTable("objects").set({ label: "x" }).where("insured_value", "=", value);
    expect(await byWorth.executeTakeFirst()).toMatchObject({ numUpdatedRows: 0n });
    const byVisitor = working(null).deleteFrom("objects").where("accession", "=", bell);
    expect(await byVisitor.executeTakeFirst()).toMatchObject({ numDeletedRows: 0n });
  });

  it("makes records that are theirs, and takes them away", async () => {
    const db = working("s-003");
    // The owner and the status are not given: the person, and the document's default.
    const values = loan as MuseumTables["loans"];
    const made = await db.insertInto("loans").values(values).returning(["requested_by", "status"]).execute();
    expect(made).toEqual([{ requested_by: "s-003", status: "draft" }]);
    const gone = await db.deleteFrom("loans").where("id", "=", "L-new").returning("borrower").execute();
    expect(gone).toEqual([{ borrower: "a museum" }]);
    expect(await stored("loans", "L-new")).toBeUndefined();
  });

  it("is asked for a confirmation first", async () => {
    const onLoan = String(records("objects").find(({ status }) => status === "on_loan")?.["accession"]);
    const change = (db: Kysely<MuseumTables>) =>
      db.updateTable("objects").set({ shelf: "N1" }).where("accession", "=", onLoan).execute();
    await expect(change(working("s-001"))).rejects.toMatchObject({ outcome: { reason: "unconfirmed" } });
    await change(working("s-001", { confirmed: ["objects/what-is-on-loan-is-not-here"] }));
    expect(await stored("objects", onLoan)).toMatchObject({ shelf: "N1" });
  });

  it("does several things as one, or none of them", async () => {
    const db = working("s-003");
    const change = (label: string) => ({ label });
    await db.transaction().execute(async (inside) => {
      await inside.updateTable("objects").set(change("one")).where("accession", "=", bell).execute();
      const [row] = await inside.selectFrom("objects").select("label").where("accession", "=", bell).execute();
      expect(row).toEqual({ label: "one" });
    });
    expect(await stored("objects", bell)).toMatchObject(change("one"));
    const failing = db.transaction().execute(async (inside) => {
      await inside.updateTable("objects").set(change("two")).where("accession", "=", bell).execute();
      await inside.updateTable("objects").set({ keeper: "s-001" }).where("accession", "=", bell).execute();
    });
    await expect(failing).rejects.toBeInstanceOf(ChangeRefused);
    expect(await stored("objects", bell)).toMatchObject(change("one"));
    // The link is of use again.
    expect(await db.selectFrom("objects").select("label").where("accession", "=", bell).execute()).toEqual([
      change("one"),
    ]);
  });

  it.each<[string, (db: Kysely<MuseumTables>) => Promise<unknown>]>([
    ["a value that the database works out", (db) => db.updateTable("objects").set({ label: sql`title` }).execute()],
    [
      "another column as a value",
      (db) =>
        db
          .updateTable("objects")
          .set(({ ref }) => ({ label: ref("title") }))
          .execute(),
    ],
    [
      "a text of SQL in the where",
      (db) => db.updateTable("objects").set({ label: "x" }).where(sql<boolean>`true`).execute(),
    ],
    ["a table that is not declared", (db) => db.insertInto("secrets").values({ id: "x" }).execute()],
    [
      "a column that is not declared",
      (db) =>
        db
          .updateTable("objects")
          .set({ colour: "red" } as object)
          .execute(),
    ],
    [
      "a way out of a conflict",
      (db) =>
        db
          .insertInto("loans")
          .values(loan as MuseumTables["loans"])
          .onConflict((on) => on.doNothing())
          .execute(),
    ],
    [
      "a select for its values",
      (db) =>
        db
          .insertInto("loans")
          .columns(["id"])
          .expression((eb) => eb.selectFrom("objects").select("accession as id"))
          .execute(),
    ],
    ["a second table", (db) => db.updateTable("objects").from("loans").set({ label: "x" }).execute()],
    ["a table under another name", (db) => db.updateTable("objects as o").set({ label: "x" }).execute()],
    [
      "an expression in returning",
      (db) =>
        db
          .updateTable("objects")
          .set({ label: "x" })
          .where("accession", "=", bell)
          .returning(sql`now()`.as("t"))
          .execute(),
    ],
    ["a text of SQL by itself", (db) => sql`delete from objects`.execute(db)],
    [
      "a stream",
      async (db) => {
        for await (const _ of db.selectFrom("objects").selectAll().stream()) return;
      },
    ],
  ])("cannot send %s", async (_what, statement) => {
    const before = await Promise.all(tables.map((table) => held(engine, table)));
    await expect(statement(working("s-003"))).rejects.toMatchObject({ name: "PortierError" });
    expect(await Promise.all(tables.map((table) => held(engine, table)))).toEqual(before);
  });
});
