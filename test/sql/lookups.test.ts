import { compile } from "portier";
import { maskedSelect } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";

// What a table may show: everything, nothing, what it holds itself, or what it only looks up. A lookup makes no record
// seen, neither its own nor one that another lookup goes through.
const extents = { exhibits: ["object", "title"], objects: ["made", "title"], works: ["title"] };
const shown = (table: keyof typeof extents) => ["all", "none", ...extents[table].map((field) => [field])];
const worlds = shown("exhibits").flatMap((exhibits) =>
  shown("objects").flatMap((objects) => shown("works").map((works) => ({ exhibits, objects, works }))),
);

const lookup = (through: string) => ({ lookup: { through, field: "title" } });
function museum(world: (typeof worlds)[number]) {
  const table = (name: keyof typeof world, fields: object) => {
    const extent = world[name];
    const permit = { list: extent, view: extent, export: extent };
    const rules = extent === "none" ? {} : { rules: { shown: { to: "anyone", permit } } };
    return { key: "id", fields: { id: "text", ...fields }, ...rules };
  };
  return compile({
    portier: 1,
    tables: {
      works: table("works", { title: "text" }),
      objects: table("objects", { made: { reference: "works", optional: true }, title: lookup("made") }),
      exhibits: table("exhibits", { object: { reference: "objects", optional: true }, title: lookup("object") }),
    },
  } as never);
}

const data = {
  works: [{ id: "w-1", title: "Ketch" }],
  objects: [
    { id: "o-1", made: "w-1" },
    { id: "o-2", made: null },
    { id: "o-3", made: "lost" },
  ],
  exhibits: [
    { id: "x-1", object: "o-1" },
    { id: "x-2", object: "o-2" },
    { id: "x-3", object: "o-3" },
    { id: "x-4", object: null },
    { id: "x-5", object: "lost" },
  ],
};

describe.each(Object.entries(engines))("a lookup through a lookup on %s", (_name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    const { schema } = museum({ exhibits: "all", objects: "all", works: "all" });
    await createTables(engine, schema);
    await storeAll(engine, schema, data);
  });
  afterAll(() => engine?.close());

  it("is shown where each record on its way shows something of its own", async () => {
    let hidden = 0;
    for (const world of worlds) {
      const portier = museum(world);
      const session = portier.session({ source: portier.source(data) });
      for (const table of ["exhibits", "objects"] as const) {
        for (const action of ["list", "view", "export"] as const) {
          const { text, params, unmask } = maskedSelect(session, table, engine.dialect, { action });
          const found = (await engine.run(`select * from (${text}) seen order by id`, params)).map(unmask);
          const rows = session.maskAll(table, data[table], action);
          expect(found, `${action} ${table} ${JSON.stringify(world)}`).toEqual(rows);
          hidden += rows.filter((row) => !Object.hasOwn(row, "title")).length;
        }
      }
    }
    expect(hidden).toBeGreaterThan(50);
  });
});
