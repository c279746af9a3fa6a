import { compile } from "portier";
import { where } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { comparedAt, comparing, comparisons, nulls } from "../support/comparisons.js";
import { createTables, type Engine, engines, store } from "../support/engines.js";

describe.each(Object.entries(engines))("values compare on %s as in memory", (_name, open) => {
  let engine: Engine;

  beforeAll(async () => {
    engine = await open();
    await createTables(engine, compile(comparing("true")).schema);
  });
  afterAll(() => engine?.close());

  async function isTrue(condition: string): Promise<boolean> {
    const session = compile(comparing(condition)).session({ request: { now: comparedAt } });
    const { text, params } = where(session, "things", "view", engine.dialect);
    return (await engine.run(`select 1 as found from things where ${text}`, params)).length > 0;
  }

  it.each(comparisons)("%s of %j: %s", async (condition, record, expected) => {
    const { schema } = compile(comparing(condition));
    const table = schema.tables.get("things");
    if (table === undefined) throw new Error("no table");
    // What no column of this engine can hold has nothing to be compared.
    const holds = Object.entries(record).every(([name, value]) => {
      const type = table.byName.get(name)?.type;
      return type !== undefined && (value === null || type.fits(value) || engine.misfit(type) !== undefined);
    });
    if (!holds) return;
    await store(engine, table, [{ ...nulls, ...record }]);
    const found = (await isTrue(condition)) ? "true" : (await isTrue(`not (${condition})`)) ? "false" : "unknown";
    expect(found).toBe(expected);
  });
});
