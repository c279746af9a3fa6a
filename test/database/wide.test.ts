import { compile } from "portier";
import { createDatabase } from "portier/database";
import { expect, it } from "vitest";
import { createTables, type Engine, engines, fill } from "../support/engines.js";

// More columns than one statement gives: what is asked for together is told apart again, or read one after the other.

const wide = Object.fromEntries(
  Array.from({ length: 900 }, (_, index) => [`c${index}`, { type: "integer", optional: true }]),
);
const tables = {
  people: { key: "id", fields: { id: "text", boss: { reference: "people", optional: true }, ...wide } },
  notes: {
    key: "id",
    fields: { id: "text", of: { reference: "people" }, ...wide },
    rules: { r: { to: "signed-in", where: "of.boss.c1 = me.c1", permit: { view: "all", list: "all" } } },
  },
};
const portier = compile({ portier: 1, people: { table: "people" }, tables } as never);

it.each(Object.entries(engines).filter(([name]) => name !== "PGlite" || process.env["PORTIER_POSTGRES"] === undefined))(
  "%s reads tables of 900 columns",
  async (_, open) => {
    const engine: Engine = await open();
    try {
      await createTables(engine, portier.schema);
      const rows = {
        people: [
          { id: "a", c1: 7 },
          { id: "b", boss: "a" },
        ],
        notes: [
          { id: "n1", of: "b", c699: 9 },
          { id: "n2", of: "a" },
        ],
      };
      for (const [name, table] of portier.schema.tables)
        for (const row of rows[name as "people"]) await fill(engine, table, [row]);
      const database = createDatabase(portier, engine.connection).as("a");
      for (const _again of [1, 2]) {
        expect(await database.list("notes", { limit: 5 })).toMatchObject({
          total: 1,
          records: [{ id: "n1", c699: 9 }],
        });
        expect(await database.about("notes", "n1", (session, row) => row && session.mask("notes", row))).toMatchObject({
          c699: 9,
        });
        expect(
          await database.about("notes", "n2", (session, row) => row && session.mask("notes", row)),
        ).toBeUndefined();
      }
    } finally {
      await engine.close();
    }
  },
);
