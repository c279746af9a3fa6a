import { compile, compiledOf, PortierError, type Row } from "portier";
import { openCompiled } from "portier/compiled";
import { createDatabase } from "portier/database";
import { where } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, fill } from "../support/engines.js";

// Instants in a column that holds no zone: the document says that they are of UTC.

const loans = { id: "text", due: { type: "timestamp", zone: "UTC", optional: true } } as const;
const documentOf = (fields: object) => ({
  portier: 1,
  tables: {
    loans: {
      key: "id",
      fields,
      rules: {
        early: {
          to: "anyone",
          where: "due < timestamp '2027-01-31T12:00:00Z'",
          permit: { view: "all", edit: ["due"] },
        },
        made: { to: "anyone", permit: { create: "all" } },
      },
    },
  },
});
const portier = compile(documentOf(loans) as never);

describe.each(Object.entries(engines))("an instant without a zone on %s", (_, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    const table = portier.schema.tables.get("loans");
    const due = ["2027-01-31 11:59:59.999999", "2027-01-31 12:00:00", null];
    const rows = due.map((one, index) => ({ id: `l-${index}`, due: one }));
    if (table !== undefined) await fill(engine, table, rows);
  });
  afterAll(() => engine?.close());

  it("is read, compared, ordered and written as one of UTC, whatever the zone of the connection", async () => {
    const database = createDatabase(portier, engine.connection).as(null);
    const sent = openCompiled(JSON.parse(JSON.stringify(compiledOf(portier))));
    const filter = where(sent.session({}), "loans", "view", engine.dialect);
    expect(await engine.run(`select id from loans where ${filter.text}`, filter.params)).toEqual([{ id: "l-0" }]);
    const seen = async (query: object) => (await database.list("loans", { action: "view", ...query })).records as Row[];
    expect(await seen({})).toEqual([{ id: "l-0", due: "2027-01-31T11:59:59.999999Z" }]);
    expect(await seen({ where: "due = timestamp '2027-01-31T20:59:59.999999+09:00'" })).toHaveLength(1);
    expect(await database.edit("loans", "l-0", { due: "2027-01-31T09:30:00.5+09:00" })).toMatchObject({
      accepted: true,
      record: { due: "2027-01-31T00:30:00.500000Z" },
    });
    expect(await database.create("loans", { id: "l-9", due: "2027-01-30T23:00:00-02:00" })).toMatchObject({
      accepted: true,
    });
    expect((await seen({ sort: ["-due"] })).map(({ id }) => id)).toEqual(["l-9", "l-0"]);
    const stored = await engine.run("select id, due from loans where id in ('l-0', 'l-9') order by id");
    const digits = stored.map(({ due }) => String(due).replace("T", " ").slice(0, 19));
    expect(digits).toEqual(["2027-01-31 00:30:00", "2027-01-31 01:00:00"]);
  });
});

it("is read in memory as a driver hands it out, and shown with its zone", () => {
  const session = portier.session({});
  const seen = (due: unknown) => session.mask("loans", { id: "l-0", due });
  expect(seen("2027-01-31 11:59:59.5")).toEqual({ id: "l-0", due: "2027-01-31T11:59:59.500000Z" });
  expect(seen("2027-01-31 13:59:59+02:00")).toEqual({ id: "l-0", due: "2027-01-31 13:59:59+02:00" });
  for (const due of ["2027-01-31 12:00:00", "2027-01-31 25:00:00", "noon", null]) expect(seen(due)).toBeUndefined();
  const zoned = compile(documentOf({ ...loans, due: "timestamp" }) as never).session({});
  expect(zoned.mask("loans", { id: "l-0", due: "2027-01-31 11:59:59" })).toBeUndefined();
});

it.each([
  { type: "timestamp", zone: "Europe/Lisbon" },
  { type: "date", zone: "UTC" },
  { choice: ["a"], zone: "UTC" },
])("%j is no field", (due) => {
  expect(() => compile(documentOf({ ...loans, due }) as never)).toThrow(PortierError);
  expect(() => compile(documentOf({ ...loans, due }) as never)).toThrow(/zone.*must be "UTC"|"UTC", with/);
});
