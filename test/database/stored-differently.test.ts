import { compile } from "portier";
import { createDatabase } from "portier/database";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Engine, engines } from "../support/engines.js";

// A column of two decimals keeps 99.996 as 100: what is judged is what is stored, on every way in.

const portier = compile({
  portier: 1,
  people: { table: "staff" },
  tables: {
    staff: { key: "id", fields: { id: "text" } },
    crates: {
      key: "id",
      fields: { id: "text", cost: "decimal", step: { type: "text", optional: true } },
      rules: {
        all: { to: "anyone", permit: { view: "all", create: "all", edit: ["cost"], bulk: "all", import: "all" } },
        begin: { to: "anyone", where: "step is null", becomes: "step = 'packed'", permit: { edit: ["step"] } },
        end: { to: "anyone", where: "step = 'packed'", becomes: "step = 'sent'", permit: { edit: ["step"] } },
        costly: {
          where: "cost >= 100",
          alsoAfter: true,
          deny: { create: ["cost"], edit: ["cost"] },
          note: "Too expensive.",
        },
      },
    },
  },
});

// SQLite keeps what it is given.
const rounding = Object.entries(engines).filter(([name]) => name !== "SQLite");

describe.each(rounding)("a column that rounds on %s", (_name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    const key = engine.connection.dialect.name === "mariadb" ? "varchar(20)" : "text";
    await engine.connection.query(
      `create table crates (id ${key} primary key, cost numeric(10, 2) not null, step varchar(20))`,
      [],
    );
  });
  afterAll(() => engine?.close());

  const stored = async () => {
    const rows = await engine.connection.query("select id, cost from crates order by id", []);
    return rows.map((row) => `${row["id"]} ${row["cost"]}`);
  };

  it("stores nothing that is not permitted, though what was given is", async () => {
    const mine = createDatabase(portier, engine.connection).as(null);
    const [near, over] = ["99.114", "99.996"];
    expect(await mine.create("crates", { id: "a", cost: near })).toMatchObject({
      accepted: true,
      record: { cost: "99.11" },
    });
    const attempts = {
      create: await mine.create("crates", { id: "b", cost: over }),
      edit: await mine.edit("crates", "a", { cost: over }),
      bulkEdit: await mine.bulkEdit("crates", ["a"], { cost: over }),
      editEach: await mine.editEach("crates", [{ key: "a", values: { cost: over } }]),
      import: await mine.import("crates", [
        { id: "c", cost: "1" },
        { id: "d", cost: over },
      ]),
    };
    for (const [way, outcome] of Object.entries(attempts)) {
      const last = "results" in outcome ? outcome.results.at(-1) : outcome;
      expect([way, outcome.accepted, last]).toMatchObject([
        way,
        false,
        { accepted: false, refusals: [{ message: "Too expensive." }] },
      ]);
    }
    expect(await stored()).toEqual(["a 99.11"]);
    expect(await mine.edit("crates", "a", { cost: "98.555" })).toMatchObject({
      accepted: true,
      changes: { cost: "98.555" },
    });
    expect(await stored()).toHaveLength(1);
    // Each of two changes of one record is what it was, also where the second goes on from the first.
    const steps = [{ step: "packed", cost: near }, { step: "sent" }].map((values) => ({ key: "a", values }));
    expect(await mine.editEach("crates", steps)).toMatchObject({ accepted: true });
  });
});
