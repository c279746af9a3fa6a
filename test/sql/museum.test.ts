import { type Row, snapshotOf } from "portier";
import { openSnapshot } from "portier/snapshot";
import { maskedSelect, sqlite, where } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, engines, store } from "../support/engines.js";
import { as, portier, records } from "../support/museum.js";

const everybody = [undefined, ...records("staff").map((row) => String(row["id"]))];
const tables = [...portier.schema.tables.keys()];

describe.each(Object.entries(engines))("the museum on %s", (_name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const table of allTables(portier.schema)) await store(engine, table, records(table.name));
  });
  afterAll(() => engine?.close());

  it.each(tables)("shows everybody of %s what the session shows", async (table) => {
    const key = portier.schema.tables.get(table)?.key.map(({ name }) => name) ?? [];
    const named = (rows: readonly Row[]) =>
      new Map(rows.map((row) => [JSON.stringify(key.map((name) => row[name])), canonical(table, row)]));
    for (const person of everybody) {
      const session = as(person);
      const { text, params, unmask } = maskedSelect(session, table, engine.dialect);
      const seen = (await engine.run(text, params)).map(unmask);
      expect(named(seen), person).toEqual(named(session.maskAll(table, records(table))));
    }
  });

  it("sorts, filters and counts by what is seen, and by nothing that is hidden", async () => {
    const { text, params } = maskedSelect(as("s-003"), "objects", engine.dialect);
    const values = await engine.run(
      `select count(*) as n from (${text}) seen where insured_value is not null or hidden not like '%insured_value%'`,
      params,
    );
    expect(Number(values[0]?.["n"])).toBe(0);
    const shown = await engine.run(`select count(label) as n from (${text}) seen where label > ''`, params);
    const expected = as("s-003")
      .maskAll("objects", records("objects"))
      .filter(({ label }) => typeof label === "string" && label > "");
    expect(Number(shown[0]?.["n"])).toBe(expected.length);
  });

  it("keeps a filter that can fail off what is not seen, behind a fence", async () => {
    const { dialect } = engine;
    const { text, params } = maskedSelect(as("s-003"), "loans", dialect, { fence: true });
    const seen = as("s-003").maskAll("loans", records("loans"));
    expect(seen.length).toBeLessThan(records("loans").length);
    // Fails for whatever is not among the keys that are seen.
    const known = seen.map(({ id }) => `'${String(id)}'`).join(", ");
    const fails = dialect.name === "postgres" ? "cast('x' || id as integer)" : "id";
    const filter = `case when id in (${known}) then 1 else ${fails} end is not null`;
    const found = await engine.run(`select id from (${text}) l where ${filter}`, params);
    expect(found).toHaveLength(seen.length);
  });

  it("stands in a statement beside other parameters", async () => {
    const { dialect } = engine;
    const { text, params } = where(as("s-003"), "objects", "edit", dialect, { as: "o", first: 2 });
    const source = dialect.quoteName("objects");
    const found = await engine.run(
      `select accession from ${source} o where o.status = ${dialect.placeholder(1)} and ${text} order by accession`,
      ["on_display", ...params],
    );
    const expected = records("objects").filter(
      (row) => row["status"] === "on_display" && as("s-003").may("edit", "objects", row),
    );
    expect(found.map(({ accession }) => accession)).toEqual(expected.map(({ accession }) => accession).sort());
  });
});

/** Decimals with as many digits as the database keeps are the same number. */
function canonical(table: string, row: Row): Row {
  const fields = portier.schema.tables.get(table)?.byName;
  return Object.fromEntries(
    Object.entries(row).map(([name, value]) => [
      name,
      value === null ? null : fields?.get(name)?.type.canonical(value),
    ]),
  );
}

describe("a statement that cannot be meant is an error", () => {
  it.each<[string, () => unknown, RegExp]>([
    ["an unknown table", () => where(as(), "object", "list", sqlite), /unknown-table .*Did you mean "objects"/],
    ["an unknown action", () => where(as(), "objects", "veiw", sqlite), /unknown-action .*Did you mean "view"/],
    ["a new record", () => where(as(), "objects", "create", sqlite), /concerns a new record/],
    [
      "a place that is none",
      () => where(as(), "objects", "list", sqlite, { first: "1; drop" as never }),
      /"first" must be/,
    ],
    ["a column that is there", () => maskedSelect(as(), "objects", sqlite, { hidden: "title" }), /has a field "title"/],
    ["a row without the column", () => maskedSelect(as(), "objects", sqlite).unmask({}), /no column "hidden"/],
  ])("%s", (_what, call, message) => {
    expect(call).toThrow(message);
  });

  it("and a snapshot of a session makes the same statements as the session", () => {
    const session = as("s-002");
    const opened = openSnapshot(JSON.parse(JSON.stringify(snapshotOf(session))));
    for (const table of tables) {
      expect(where(opened, table, "list", sqlite)).toEqual(where(session, table, "list", sqlite));
    }
  });
});
