import fc from "fast-check";
import { type ChangeResult, compile, type Row, type RuleInput, type Session } from "portier";
import { createDatabase } from "portier/database";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, held, store, storeAll } from "../support/engines.js";
import { documentFrom, groups, items, promised, proposals, rules, worlds } from "../support/random-documents.js";
import { isSampled, runsOf, seedOf } from "../support/runs.js";

const seed = seedOf(1);

/** Without a rule that permits much, hardly any change would be written. */
const named = ["all", "id", "keeper", "price"];
const generous: RuleInput = {
  to: "anyone",
  where: "level is null or level <> 2",
  becomes: "any",
  permit: { edit: named, bulk: named, create: named, import: named },
};
const seen: RuleInput = { to: "anyone", permit: { view: ["all", "price"], delete: "yes" } };
/** Makers and changers of records that they then see in part, or not at all. */
const blind: RuleInput = { to: "anyone", where: "level <> 1 or title = 'a'", permit: { list: ["title"] } };
const someRules = fc
  .tuple(fc.array(rules, { minLength: 1, maxLength: 5 }), fc.constantFrom(undefined, seen, blind))
  .map(([drawn, shown]) => (shown === undefined ? drawn : [...drawn, generous, shown]));
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

describe.each(Object.entries(engines))("changes on %s", (name, open) => {
  const runs = runsOf(32, name);
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, compile(documentFrom({ rules: [] })).schema);
  });
  afterAll(() => engine?.close());

  it("are judged and written as in memory", async () => {
    let [accepted, unseen, partly] = [0, 0, 0];
    await fc.assert(
      fc.asyncProperty(cases, async ({ drawn, world, me, items: things, proposal, mode }) => {
        const portier = compile(documentFrom(drawn));
        const table = portier.schema.tables.get("items") as Table;
        const given = things.map((row, index) => ({ ...row, id: `i${index + 1}` }));
        const data = await storeAll(engine, portier.schema, { ...world, items: given });
        const rows = data["items"] ?? [];
        const session = portier.session({ person: me, source: portier.source(data), request: promised });
        const acting = createDatabase(portier, engine.connection).as({ person: me, request: promised });
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

        /** A session in which the change has been made. */
        const opened = (items: readonly Row[]) =>
          portier.session({ person: me, source: portier.source({ ...data, items }), request: promised });
        /** What comes back is what was given and what the person then sees: nothing else of what was judged and stored. */
        const expectTold = (
          outcome: ChangeResult,
          expected: ChangeResult,
          values: Row,
          now: readonly Row[],
          isDone = true,
        ) => {
          if (!outcome.accepted || !expected.accepted) return expect(outcome).toEqual(expected);
          const given = Object.entries(expected.changes).filter(([name]) => Object.hasOwn(values, name));
          const key = isDone ? expected.record?.["id"] : undefined;
          const after = key === undefined ? undefined : now.find(({ id }) => id === key);
          const seen = after && (opened(now).mask("items", after) ?? opened(now).mask("items", after, "list"));
          expect(outcome.dropped).toEqual(expected.dropped);
          expect(outcome.changes).toEqual(Object.fromEntries(given));
          expect(outcome.record && canonical(outcome.record, table)).toEqual(seen && canonical(seen, table));
          if (key !== undefined && seen === undefined) unseen++;
          if (seen !== undefined && !Object.hasOwn(seen, "price")) partly++;
        };

        for (const key of ["i1", "gone"]) {
          const values = { ...proposal };
          const expected = session.checkEdit("items", find(key), values, { mode });
          const outcome = await acting.edit("items", key, values, { mode });
          const now = expected.accepted ? replaced(key, expected) : rows;
          expectTold(outcome, expected, values, now);
          await expectLeft(now);
        }
        {
          const values = { id: "i9", ...proposal };
          const expected = session.checkCreate("items", values, { mode });
          const outcome = await acting.create("items", values, { mode });
          const now = expected.accepted && expected.record !== undefined ? [...rows, expected.record] : rows;
          expectTold(outcome, expected, values, now);
          await expectLeft(now);
        }
        {
          const expected = session.checkDelete("items", find("i1"));
          const now = expected.accepted ? rows.filter(({ id }) => id !== "i1") : rows;
          expectTold(await acting.delete("items", "i1"), expected, {}, now);
          await expectLeft(now);
        }
        /** Several changes, each judged on what those before it have left; all are made, or none. */
        const compareMany = async (
          changes: readonly Row[],
          judge: (session: Session, index: number, before: readonly Row[]) => ChangeResult,
          done: { readonly accepted: boolean; readonly results: readonly ChangeResult[] },
        ) => {
          let now: readonly Row[] = rows;
          const expected = changes.map((_, index) => {
            const one = judge(opened(now), index, now);
            if (!one.accepted || one.record === undefined) return one;
            const { record } = one;
            const isNew = !now.some(({ id }) => id === record["id"]);
            now = isNew ? [...now, record] : now.map((row) => (row["id"] === record["id"] ? record : row));
            return one;
          });
          expect(done.accepted).toBe(expected.every(({ accepted }) => accepted));
          const left = done.accepted ? now : rows;
          for (const [index, one] of expected.entries()) {
            expectTold(done.results[index] as ChangeResult, one, changes[index] ?? {}, left, done.accepted);
          }
          await expectLeft(left);
        };
        const { id: _, ...plain } = proposal;
        {
          const keys = ["i1", "i2"];
          const found = (now: readonly Row[], key: string | undefined) => now.find(({ id }) => id === key);
          const outcome = await acting.bulkEdit("items", keys, plain, { mode });
          await compareMany(
            keys.map(() => plain),
            (asked, index, now) =>
              asked.checkBulkEdit("items", [found(now, keys[index])], plain, { mode }).results[0] as ChangeResult,
            outcome,
          );
          // In memory the same, of all at once.
          const atOnce = session.checkBulkEdit("items", keys.map(find), plain, { mode });
          expect(atOnce.results.map(({ accepted }) => accepted)).toEqual(
            outcome.results.map(({ accepted }) => accepted),
          );
          // The first record twice: the second change is judged on what the first has left.
          const named = ["i1", "i2", "i1"];
          const values = [plain, {}, plain];
          const changes = named.map((key, index) => ({ key, values: values[index] ?? {} }));
          await compareMany(
            values,
            (asked, index, now) => asked.checkEdit("items", found(now, named[index]), values[index] ?? {}, { mode }),
            await acting.editEach("items", changes, { mode }),
          );
        }
        {
          const lines = [
            { id: "i7", ...proposal },
            { ...proposal, id: "i8" },
          ];
          const outcome = await acting.import("items", lines, { mode });
          await compareMany(
            lines,
            (asked, index) => asked.checkImport("items", [lines[index] as Row], { mode }).results[0] as ChangeResult,
            outcome,
          );
          const atOnce = session.checkImport("items", lines, { mode });
          expect(atOnce.results.map(({ accepted }) => accepted)).toEqual(
            outcome.results.map(({ accepted }) => accepted),
          );
        }
        expect(await acting.ask((asked) => asked.form("items", find("i1")))).toEqual(session.form("items", find("i1")));
      }),
      { seed, numRuns: runs },
    );
    if (isSampled(name)) return;
    expect(accepted).toBeGreaterThan(runs / 5);
    // Those who saw less than they changed, or nothing of it, were among them.
    expect(unseen).toBeGreaterThan(0);
    expect(partly).toBeGreaterThan(runs / 20);
  });
});

type Outcome = Pick<ChangeResult, "accepted"> & { readonly record?: Row | undefined };

/** What is shown of a record, whatever way the database spells it. */
function canonical(seen: Row, table: Table): Row {
  return Object.fromEntries(
    Object.entries(seen).map(([name, value]) => [
      name,
      value === null ? null : (table.byName.get(name)?.type.canonical(value) ?? "bad"),
    ]),
  );
}

/** Values in canonical form, by the records' keys; what is computed is the database's own business. */
function byKey(rows: readonly Row[], table: Table): Map<unknown, object> {
  const canonical = (row: Row) =>
    table.fields
      .filter((field) => field.by === undefined && field.lookup === undefined && !field.computed)
      .map(({ name, type }) => [name, row[name] == null ? null : (type.canonical(row[name]) ?? "bad")]);
  return new Map(rows.map((row) => [row["id"], Object.fromEntries(canonical(row))]));
}
