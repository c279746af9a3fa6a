import { createPool } from "mysql2/promise";
import pg from "pg";
import type { Row } from "portier";
import { type ConflictError, type Connection, createDatabase, type Database } from "portier/database";
import { accessHandler } from "portier/http";
import { mysql2Connection } from "portier/mysql2";
import { pgConnection } from "portier/pg";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, engines, held, store } from "../support/engines.js";
import { portier, record, records } from "../support/museum.js";

const now = "2026-11-24T09:00:00Z";
const bell = "BM-SH-0001";
const tables = allTables(portier.schema);

describe.each(Object.entries(engines))("a change of the museum on %s", (name, open) => {
  const isServer = name === "PostgreSQL" || name === "MariaDB";
  let engine: Engine;
  let database: Database;
  const as = (person: string | null) => database.as({ person, request: { now } });
  const quote = (written: string) => engine.dialect.quoteName(written);

  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    database = createDatabase(portier, engine.connection);
  });
  beforeEach(async () => {
    for (const table of tables) await store(engine, table, records(table.name).slice(0, 60));
  });
  afterAll(() => engine?.close());

  async function stored(table: string, key: string): Promise<Row | undefined> {
    const declared = portier.schema.tables.get(table);
    if (declared === undefined) throw new Error(table);
    const [field] = declared.key;
    return (await held(engine, declared)).find((row) => row[field?.name ?? ""] === key);
  }

  /** A statement as another program would send it. */
  const elsewhere = (connection: Connection, text: string) => connection.query(text, []);
  const move = (column: string, value: string) =>
    `update ${quote("objects")} set ${quote(column)} = '${value}' where ${quote("accession")} = '${bell}'`;

  it("is written when it is accepted, and only then", async () => {
    expect(await as("s-003").edit("objects", bell, { label: "Rung." })).toMatchObject({
      accepted: true,
      changes: { label: "Rung." },
    });
    expect(await stored("objects", bell)).toMatchObject({ label: "Rung.", title: record("objects", bell)["title"] });
    const refused = await as("s-003").edit("objects", bell, { label: "Twice.", insured_value: "1.00" });
    expect(refused).toMatchObject({ accepted: false, reason: "refused", refusals: [{ field: "insured_value" }] });
    expect(await stored("objects", bell)).toMatchObject({ label: "Rung." });
    expect(await as(null).edit("objects", bell, { label: "x" })).toMatchObject({ accepted: false });
    expect(await as("s-003").edit("objects", "BM-NONE", { label: "x" })).toMatchObject({ reason: "not-found" });
  });

  it("counts a role that was revoked at once", async () => {
    expect((await as("s-003").session()).reach("edit", "objects")).toBe("some");
    await elsewhere(
      engine.connection,
      `update ${quote("staff")} set ${quote("active")} = ${name.startsWith("P") ? "false" : "0"} where ${quote("id")} = 's-003'`,
    );
    expect(await as("s-003").edit("objects", bell, { label: "Rung." })).toMatchObject({ reason: "not-found" });
    expect((await as("s-003").session()).reach("edit", "objects")).toBe("none");
  });

  /** An exhibition that the director may drop: nothing stands in it. */
  const emptied = () => elsewhere(engine.connection, `delete from ${quote("exhibits")}`);

  it("is not half done when its work fails", async () => {
    await emptied();
    const failing = as("s-001").perform("delete", "exhibitions", "e-1", async (inside) => {
      await inside.query(`delete from ${quote("exhibitions")}`, []);
      throw new Error("the printer is on fire");
    });
    await expect(failing).rejects.toThrow("the printer is on fire");
    expect(await stored("exhibitions", "e-1")).toBeDefined();
    expect(await as("s-001").delete("exhibitions", "e-1")).toMatchObject({ accepted: true, record: undefined });
    expect(await stored("exhibitions", "e-1")).toBeUndefined();
  });

  it("may hold a part that is taken back by itself", async () => {
    await engine.connection.transaction(async (inside) => {
      await inside.query(move("label", "kept"), []);
      const part = inside.transaction(async (deeper) => {
        await deeper.query(move("title", "taken back"), []);
        throw new Error("no");
      });
      await expect(part).rejects.toThrow("no");
    });
    expect(await stored("objects", bell)).toMatchObject({ label: "kept", title: record("objects", bell)["title"] });
  });

  it("makes all of many records, or none", async () => {
    const lines = [
      { accession: "BM-NEW-1", title: "Anchor", department: "ships" },
      { accession: "BM-NEW-2", title: "Chain", department: "nowhere" },
    ];
    const outcome = await as("s-005").import("objects", lines);
    expect(outcome.accepted).toBe(false);
    expect(await stored("objects", "BM-NEW-1")).toBeUndefined();
    const right = lines.map((line) => ({ ...line, department: "ships" }));
    expect(await as("s-005").import("objects", right)).toMatchObject({ accepted: true });
    expect(await stored("objects", "BM-NEW-2")).toMatchObject({ title: "Chain", status: "registered" });
  });

  // A statement that named all of them at once was too deep for SQLite.
  const onSqlite = (what: string, run: () => Promise<void>) => name === "SQLite" && it(what, run);
  onSqlite("changes more than a thousand records together", async () => {
    const lines = Array.from({ length: 1_050 }, (_, index) => ({
      accession: `BM-MANY-${index}`,
      title: "x",
      department: "ships",
    }));
    await store(engine, tables.find((one) => one.name === "objects") as never, [
      ...records("objects").slice(0, 5),
      ...lines.map((line) => ({ ...record("objects", bell), ...line })),
    ]);
    const keys = lines.map(({ accession }) => accession);
    const changed = await as("s-005").bulkEdit("objects", keys, { condition_note: "Seen." });
    expect(changed).toMatchObject({ accepted: true });
    expect(changed.results).toHaveLength(1_050);
    const hidden = await as(null).bulkEdit("objects", keys, { condition_note: "Seen." });
    expect(hidden.accepted).toBe(false);
  });

  it("gives one key to one of two who take it at the same time", async () => {
    const values = { accession: "BM-NEW-1", title: "Anchor", department: "ships" };
    const outcomes = await Promise.all([1, 2, 3].map(() => as("s-005").create("objects", values)));
    expect(outcomes.filter(({ accepted }) => accepted)).toHaveLength(1);
    for (const outcome of outcomes.filter(({ accepted }) => !accepted)) {
      expect(outcome).toMatchObject({ reason: "invalid", refusals: [{ reason: "key-taken" }] });
    }
  });

  it("asks for what it needs to answer, and nothing is answered from what is missing", async () => {
    const form = await as("s-003").ask((session) => session.form("objects", record("objects", bell)));
    expect(form?.fields.find(({ name: field }) => field === "status")).toMatchObject({ state: "editable" });
    const session = await as("s-003").session();
    // What reads other records, a session out of its question denies.
    expect(session.may("view", "exhibits", records("exhibits")[0], "object_title")).toBe(false);
  });

  // What needs a second link; the embedded engines have one, and changes there wait for each other.
  if (!isServer) return;

  // A change of a locked record that is hidden once waited where one of a missing record answered at once.
  it("waits for nobody on a record that the person does not know of, and reads wait for nobody at all", async () => {
    const visitor = as(null);
    const loan = "l-001";
    await engine.connection.transaction(async (other) => {
      await elsewhere(
        other,
        `update ${quote("loans")} set ${quote("status")} = ${quote("status")} where ${quote("id")} = '${loan}'`,
      );
      await elsewhere(other, move("label", "half done"));
      const answers = Promise.all(
        [loan, "none"].map(async (key) => [
          await visitor.edit("loans", key, { status: "requested" }),
          await visitor.delete("loans", key),
          await visitor.bulkEdit("loans", [key], { status: "requested" }),
          await visitor.editEach("loans", [{ key, values: { status: "requested" } }]),
          await visitor.about("loans", key, (session, one) => one && session.mask("loans", one)),
          (await visitor.list("objects", { where: "accession = 'BM-SH-0001'" })).total,
          await as("s-003").about("objects", bell, (session, one) => one && session.mask("objects", one)?.["label"]),
          (await as("s-005").list("objects", { limit: 1, sort: ["accession"] })).records[0]?.["label"],
        ]),
      );
      // The other one ends when all of this was answered, and not before.
      const [hidden, missing] = await answers;
      expect(hidden).toEqual(missing);
      expect(hidden?.slice(0, 2)).toMatchObject([{ reason: "not-found" }, { reason: "not-found" }]);
      expect(JSON.stringify(hidden)).not.toContain("half done");
    });
  });

  it("is judged on the record as another left it, not as it was", async () => {
    let mine: Promise<unknown> = Promise.resolve();
    await engine.connection.transaction(async (other) => {
      await elsewhere(other, move("department", "textiles"));
      await elsewhere(other, move("keeper", "s-004"));
      // While the other has the record, the keeper's change waits for it.
      mine = as("s-003").edit("objects", bell, { label: "Rung." });
      await new Promise((resolve) => setTimeout(resolve, 300));
    });
    expect(await mine).toMatchObject({ accepted: false, reason: "refused" });
    expect((await stored("objects", bell))?.["label"]).toBe(record("objects", bell)["label"]);
  });

  // What had been read before the wait was taken for what counts after it.
  it.each<[string, () => string, () => Promise<unknown>]>([
    ["an edit", () => move("material", "tin"), () => as("s-003").edit("objects", bell, { label: "Rung." })],
    [
      "a bulk change",
      () => move("material", "tin"),
      () => as("s-003").editEach("objects", [{ key: bell, values: { label: "x" } }]),
    ],
    [
      "a new record",
      () =>
        `insert into ${quote("objects")} (${["accession", "title", "department", "status"].map(quote).join(", ")}) values ('BM-NEW-1', 'Anchor', 'ships', 'registered')`,
      () => as("s-005").create("objects", { accession: "BM-NEW-1", title: "Anchor", department: "ships" }),
    ],
  ])("does not rely, for %s that has waited, on a role that was revoked meanwhile", async (_what, held, change) => {
    const noActive = `update ${quote("staff")} set ${quote("active")} = false where ${quote("id")} in ('s-003', 's-005')`;
    let mine: Promise<unknown> = Promise.resolve();
    const rollback = new Error("taken back");
    const other = engine.connection.transaction(async (inside) => {
      await elsewhere(inside, held());
      mine = change();
      await new Promise((resolve) => setTimeout(resolve, 80));
      await elsewhere(engine.connection, noActive);
      await new Promise((resolve) => setTimeout(resolve, 80));
      throw rollback;
    });
    await expect(other).rejects.toBe(rollback);
    const outcome = (await mine) as { accepted: boolean; reason?: string };
    expect(outcome.accepted, JSON.stringify(outcome)).toBe(false);
    expect(await stored("objects", "BM-NEW-1")).toBeUndefined();
    expect((await stored("objects", bell))?.["label"]).toBe(record("objects", bell)["label"]);
  });

  it("leaves no statements prepared, however many pages are asked for", async () => {
    const statement =
      name === "MariaDB"
        ? "show global status like 'Prepared_stmt_count'"
        : "select count(*) as n from pg_prepared_statements";
    const count = async () => Number(Object.values((await engine.connection.query(statement, []))[0] ?? {}).at(-1));
    const before = await count();
    const objects = quote("objects");
    for (let offset = 0; offset < 1_000; offset++) {
      // Each is another text: what was prepared and kept for one would add up.
      const page = `select ${offset} as page from ${objects} where ${quote("title")} <> ${engine.dialect.placeholder(1)} limit 1`;
      await engine.connection.query(page, ["x"]);
      if (offset % 4 === 0) await as("s-003").list("objects", { limit: 3, offset });
    }
    expect((await count()) - before).toBeLessThan(30);
  });

  it("loses nothing when many change one record at once", async () => {
    const labels = Array.from({ length: 32 }, (_, index) => `Rung ${index}.`);
    const outcomes = await Promise.all(labels.map((label) => as("s-003").edit("objects", bell, { label })));
    expect(outcomes.filter(({ accepted }) => accepted)).toHaveLength(labels.length);
    expect(labels).toContain((await stored("objects", bell))?.["label"]);
  });

  it("holds the record until it is written", async () => {
    await emptied();
    const order: string[] = [];
    let other: Promise<unknown> = Promise.resolve();
    const rename = `update ${quote("exhibitions")} set ${quote("title")} = 'Tides' where ${quote("id")} = 'e-1'`;
    await as("s-001").perform("delete", "exhibitions", "e-1", async () => {
      other = elsewhere(engine.connection, rename).then(() => order.push("other"));
      await new Promise((resolve) => setTimeout(resolve, 300));
      order.push("mine");
    });
    await other;
    expect(order).toEqual(["mine", "other"]);
  });

  it("ends with a conflict when a lock is not given in time, over HTTP with a word that it is busy", async () => {
    const handle = accessHandler({ portier, connection: engine.connection, authenticate: () => ({ person: "s-003" }) });
    const patch = {
      method: "PATCH",
      headers: { "content-type": "application/json" },
      body: '{"values":{"label":"Rung."}}',
    };
    await engine.connection.transaction(async (other) => {
      await elsewhere(other, move("department", "textiles"));
      const [edited, answered] = await Promise.allSettled([
        as("s-003").edit("objects", bell, { label: "Rung." }),
        handle(new Request(`http://museum.test/records/objects/${bell}`, patch)),
      ]);
      expect(edited).toMatchObject({ status: "rejected", reason: { name: "ConflictError" } });
      const { cause } = (edited as PromiseRejectedResult).reason as ConflictError;
      expect(cause).toMatchObject({ message: expect.stringMatching(/lock/i) });
      expect(answered).toMatchObject({ status: "fulfilled", value: { status: 503 } });
    });
    expect((await stored("objects", bell))?.["label"]).toBe(record("objects", bell)["label"]);
  });

  it("is not half done when the link is cut in the middle, and the next one works", async () => {
    const cut = engine.cut ?? "";
    const failing = engine.connection.transaction(async (inside) => {
      await inside.query(move("label", "half"), []);
      await inside.query(cut, []);
      await inside.query("select 1", []);
    });
    await expect(failing).rejects.toThrow();
    expect((await stored("objects", bell))?.["label"]).toBe(record("objects", bell)["label"]);
    expect(await as("s-003").edit("objects", bell, { label: "Rung." })).toMatchObject({ accepted: true });
  });

  it("is not half done when a statement takes too long", async () => {
    await emptied();
    const [limit, slow] =
      name === "PostgreSQL"
        ? ["set local statement_timeout = 100", "select pg_sleep(5)"]
        : ["select 1", "set statement max_statement_time = 0.1 for select sleep(5)"];
    const failing = as("s-001").perform("delete", "exhibitions", "e-1", async (inside) => {
      await inside.query(limit, []);
      await inside.query(`delete from ${quote("exhibitions")} where ${quote("id")} = 'e-1'`, []);
      await inside.query(slow, []);
    });
    await expect(failing).rejects.toThrow(/timeout|max_statement_time/);
    expect(await stored("exhibitions", "e-1")).toBeDefined();
  });
});

describe("a database that is away", () => {
  const away = {
    pg: () => pgConnection(new pg.Pool({ host: "127.0.0.1", port: 1 })),
    mysql2: () => mysql2Connection(createPool({ host: "127.0.0.1", port: 1 })),
  };

  it.each(Object.entries(away))("permits nothing: every call fails with what %s says", async (_driver, connect) => {
    const acting = createDatabase(portier, connect()).as("s-003");
    await expect(acting.session()).rejects.toThrow();
    await expect(acting.edit("objects", bell, { label: "x" })).rejects.toMatchObject({ code: "ECONNREFUSED" });
    await expect(acting.ask((session) => session.may("view", "objects", record("objects", bell)))).rejects.toThrow();
  });
});
