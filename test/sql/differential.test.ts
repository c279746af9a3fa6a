import fc from "fast-check";
import { compile, type Row, type Session } from "portier";
import { maskedSelect, where } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import {
  documentFrom,
  everyRules,
  groups,
  items,
  lines,
  promised,
  rules,
  sheetRules,
  worlds,
} from "../support/random-documents.js";
import { isSampled, runsOf, seedOf } from "../support/runs.js";

// A case is one answer that memory and database both gave.
const seed = seedOf(457213718);

const cases = fc.record({
  drawn: fc.record({
    rules: fc.array(rules, { minLength: 1, maxLength: 7 }),
    every: fc.option(everyRules, { nil: undefined, freq: 3 }),
    sheet: fc.array(sheetRules, { minLength: 1, maxLength: 5 }),
    groups,
  }),
  world: worlds,
  me: fc.constantFrom("p1", "p2", "p3", "p4", "stranger", undefined),
  actedBy: fc.option(fc.constantFrom("p1", "p3", "p4"), { nil: undefined, freq: 2 }),
  items: fc.array(items, { minLength: 4, maxLength: 4 }),
  lines: fc.array(lines, { minLength: 4, maxLength: 4 }),
});

/** Undefined where the delegation does not run: then nobody acts. */
function acting(open: () => Session): Session | undefined {
  try {
    return open();
  } catch (error) {
    expect(error).toMatchObject({ code: "wrong-call" });
    return undefined;
  }
}

type Data = Record<string, readonly Row[]>;

describe.each(Object.entries(engines))("on %s", (name, open) => {
  const runs = runsOf(40, name);
  let engine: Engine;
  const { schema } = compile(documentFrom({ rules: [] }));
  let compared = 0;
  let acted = 0;

  beforeAll(async () => {
    engine = await open();
    await createTables(engine, schema);
  });
  afterAll(async () => {
    await engine?.close();
    // biome-ignore lint/suspicious/noConsole: whoever reads the run must be able to repeat it
    if (compared > 0) console.info(`${name}, seed ${seed}: ${compared} answers compared`);
  });
  const quote = (written: string) => engine.dialect.quoteName(written);

  async function compareTable(session: Session, table: Table, rows: readonly Row[]): Promise<void> {
    const keyOf = (row: Row) => table.key.map((field) => row[field.name]).join("/");
    const keys = table.key.map((field) => quote(field.column)).join(", ");
    const protect = table.grid?.protections ? ["protect"] : [];
    for (const action of ["list", "view", "export", "edit", "bulk", "delete", ...protect, ...table.actions]) {
      const { text, params } = where(session, table.name, action, engine.dialect);
      const found = await engine.run(`select ${keys} from ${quote(table.source)} where ${text}`, params);
      const expected = rows.filter((row) => session.may(action, table.name, row));
      expect(found.map(keyOf).sort(), `${action} ${table.name}: ${text} ${JSON.stringify(params)}`).toEqual(
        expected.map(keyOf).sort(),
      );
      // The promises of reach hold for the database's records, too, and so do its counts.
      const reach = session.reach(action, table.name);
      if (reach === "none" || reach === "all")
        expect(found.length, `${action} ${table.name}: ${reach}`).toBe(reach === "all" ? rows.length : 0);
      const counted = await engine.run(`select count(*) as n from ${quote(table.source)} where ${text}`, params);
      expect(Number(counted[0]?.["n"])).toBe(expected.length);
      compared += rows.length;
    }
    for (const action of ["list", "view", "export"] as const) {
      const select = maskedSelect(session, table.name, engine.dialect, { action });
      const found = await engine.run(`select * from (${select.text}) seen`, select.params);
      const seen = new Map(found.map((row) => [keyOf(row), select.unmask(row)]));
      for (const row of rows) {
        expect(seen.get(keyOf(row)), `${action}: ${select.text} ${JSON.stringify(select.params)}`).toEqual(
          session.mask(table.name, row, action),
        );
      }
      expect(seen.size).toBeLessThanOrEqual(rows.length);
      compared += rows.length * table.fields.length;
    }
  }

  it("a database sees what memory sees", async () => {
    await fc.assert(
      fc.asyncProperty(cases, async ({ drawn, world, me, actedBy, items: things, lines: sheet }) => {
        const portier = compile(documentFrom(drawn));
        const given: Data = {
          ...world,
          items: things.map((row, index) => ({ ...row, id: `i${index + 1}` })),
          sheet: sheet.map((row, index) => ({ ...row, id: `s${index + 1}` })),
        };
        const data = await storeAll(engine, portier.schema, given);
        const person = me === undefined ? {} : { person: me };
        const options = { ...person, source: portier.source(data), request: promised };
        const isActing = (data["portier_delegations"] ?? []).some((row) => row["of"] === me && row["to"] === actedBy);
        const session =
          (isActing ? acting(() => portier.session({ ...options, actedBy: actedBy as string })) : undefined) ??
          portier.session(options);
        if (session.actedBy !== undefined) acted++;
        for (const table of portier.schema.tables.values()) {
          await compareTable(session, table, data[table.name] ?? []);
        }
        // Of the holders of a role nothing else is known: what depends on it is unknown, as in memory without a source.
        await compareTable(
          portier.sessionForRoles(["junior"]),
          schema.tables.get("sheet") as Table,
          data["sheet"] ?? [],
        );
      }),
      { seed, numRuns: runs },
    );
    expect(compared).toBeGreaterThan(runs * 100);
    if (!isSampled(name)) expect(acted).toBeGreaterThan(0);
  }, 600_000);
});
