import fc from "fast-check";
import { type Acceptance, compile, type ManyAcceptance, type Row, type RuleInput } from "portier";
import { openDatabase } from "portier/database";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, held, store, storeAll } from "../support/engines.js";
import { groups, house, items, now, proposals, rules, worlds } from "../support/house.js";

// PORTIER_SQL_RUNS makes it longer, PORTIER_SEED repeats a run.
const runs = Number(process.env["PORTIER_SQL_RUNS"] ?? 60);
const seed = Number(process.env["PORTIER_SEED"] ?? Math.floor(Math.random() * 2 ** 31));

/** Without a rule that permits much, hardly any change would be written. */
const named = ["all", "id", "keeper", "price"];
const generous: RuleInput = {
  to: "anyone",
  where: "level is null or level <> 2",
  becomes: "any",
  permit: { edit: named, bulk: named, create: named, import: named },
};
const seen: RuleInput = { to: "anyone", permit: { view: ["all", "price"], delete: "yes" } };
const someRules = fc
  .tuple(fc.array(rules, { minLength: 1, maxLength: 5 }), fc.boolean())
  .map(([drawn, isGenerous]) => (isGenerous ? [...drawn, generous, seen] : drawn));
const few = fc
  .tuple(proposals, fc.array(fc.nat(), { maxLength: 3 }))
  .map(([all, picks]) =>
    Object.fromEntries(picks.map((pick) => Object.entries(all)[pick % 19]).filter((one) => one !== undefined)),
  );

const cases = fc.record({
  drawn: fc.record({ rules: someRules, groups }),
  world: worlds,
  me: fc.constantFrom("p1", "p2", "p3", "stranger", null),
  items: fc.array(items, { minLength: 2, maxLength: 2 }),
  proposal: fc.oneof(few, proposals),
  mode: fc.constantFrom("strict" as const, "lenient" as const),
});

describe.each(Object.entries(engines))("changes on %s", (_name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, compile(house({ rules: [] })).schema);
  });
  afterAll(() => engine?.close());

  it("are judged and written as in memory", async () => {
    let accepted = 0;
    await fc.assert(
      fc.asyncProperty(cases, async ({ drawn, world, me, items: things, proposal, mode }) => {
        const portier = compile(house(drawn));
        const table = portier.schema.tables.get("items") as Table;
        const given = things.map((row, index) => ({ ...row, id: `i${index + 1}` }));
        const data = await storeAll(engine, portier.schema, { ...world, items: given });
        const rows = data["items"] ?? [];
        const session = portier.session({ person: me, source: portier.source(data), request: { now } });
        const acting = openDatabase(portier, engine.connection).as(me, { request: { now } });
        const find = (key: string) => rows.find(({ id }) => id === key);

        /** The records that the change should leave, from what memory says of it. */
        const expectLeft = async (expected: readonly Row[]) => {
          const found = await held(engine, table);
          if (expected !== rows) accepted++;
          await store(engine, table, rows);
          expect(byKey(found, table)).toEqual(byKey(expected, table));
        };
        const replaced = (key: string, outcome: Outcome) =>
          rows.flatMap((row) => (row["id"] !== key ? [row] : outcome.record === undefined ? [] : [outcome.record]));

        for (const key of ["i1", "gone"]) {
          const values = { ...proposal };
          const expected = session.accept("edit", "items", find(key), values, { mode });
          const outcome = await acting.edit("items", key, values, { mode });
          expect(stripped(outcome)).toEqual(stripped(expected));
          await expectLeft(expected.accepted ? replaced(key, expected) : rows);
        }
        {
          const values = { id: "i9", ...proposal };
          const expected = session.accept("create", "items", values, { mode });
          const outcome = await acting.create("items", values, { mode });
          expect(stripped(outcome)).toEqual(stripped(expected));
          await expectLeft(expected.accepted && expected.record !== undefined ? [...rows, expected.record] : rows);
        }
        {
          const expected = session.accept("delete", "items", find("i1"));
          expect(stripped(await acting.delete("items", "i1"))).toEqual(stripped(expected));
          await expectLeft(expected.accepted ? rows.filter(({ id }) => id !== "i1") : rows);
        }
        {
          const { id: _, ...values } = proposal;
          const expected = session.acceptBulk("items", [find("i1"), find("i2")], values, { mode });
          const outcome = await acting.editMany("items", ["i1", "i2"], values, { mode });
          expect(outcome.results.map(stripped)).toEqual(expected.results.map(stripped));
          await expectLeft(left(expected, rows));
        }
        {
          const { id: _, ...values } = proposal;
          // The first record twice: the second change is judged on what the first has left.
          const first = session.accept("edit", "items", find("i1"), values, { mode });
          const again = session.accept("edit", "items", first.accepted ? first.record : find("i1"), values, { mode });
          const results = [first, session.accept("edit", "items", find("i2"), {}, { mode }), again];
          const changes = [
            { key: "i1", values },
            { key: "i2", values: {} },
            { key: "i1", values },
          ];
          const outcome = await acting.editEach("items", changes, { mode });
          expect(outcome.results.map(stripped)).toEqual(results.map(stripped));
          const isDone = results.every(({ accepted }) => accepted);
          expect(outcome.accepted).toBe(isDone);
          await expectLeft(isDone ? replaced("i1", again as Outcome) : rows);
        }
        {
          const lines = [
            { id: "i7", ...proposal },
            { ...proposal, id: "i8" },
          ];
          const expected = session.acceptImport("items", lines, { mode });
          const outcome = await acting.createMany("items", lines, { mode });
          expect(outcome.results.map(stripped)).toEqual(expected.results.map(stripped));
          await expectLeft(expected.accepted ? [...rows, ...left(expected, [])] : rows);
        }
        expect(await acting.ask((asked) => asked.form("items", find("i1")))).toEqual(session.form("items", find("i1")));
      }),
      { seed, numRuns: runs },
    );
    expect(accepted).toBeGreaterThan(runs / 5);
  });
});

type Outcome = Pick<Acceptance, "accepted"> & { readonly record?: Row | undefined };

/** What records a change of many leaves. */
function left({ accepted, results }: ManyAcceptance, otherwise: readonly Row[]): readonly Row[] {
  return accepted ? results.flatMap((one: Outcome) => (one.record === undefined ? [] : [one.record])) : otherwise;
}

/** The outcome without the record, whose values the database may spell in another way. */
function stripped(outcome: Acceptance): object {
  const { record: _, ...rest } = outcome as Outcome;
  return rest;
}

/** Values in canonical form, by the records' keys; what is computed is the database's own business. */
function byKey(rows: readonly Row[], table: Table): Map<unknown, object> {
  const canonical = (row: Row) =>
    table.fields
      .filter((field) => field.by === undefined && field.lookup === undefined && !field.computed)
      .map(({ name, type }) => [name, row[name] == null ? null : (type.canonical(row[name]) ?? "bad")]);
  return new Map(rows.map((row) => [row["id"], Object.fromEntries(canonical(row))]));
}
