import fc from "fast-check";
import { compile } from "portier";
import { maskedSelect } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { printCondition } from "../../src/conditions/printer.js";
import type { Condition } from "../../src/conditions/syntax.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { countPairs, pairs } from "../support/grammar.js";
import { conditions, documentFrom, items, promised, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

// A run is one world and what a handful of conditions find in it. First come conditions in which each production of the grammar
// stands inside each other, then as many that are drawn.
const runs = runsOf(20);
const seed = seedOf(972911585);

/** Each condition opens a field by a permit, and closes another by a deny: so true, false and unknown are told apart. */
const opened = ["title", "status", "keeper", "dept", "level", "price", "due", "seen", "flag", "labels"];
const closed = ["helpers", "counts", "sums", "dates", "times", "marks", "stages", "extra", "event", "member"];

const handful = { minLength: opened.length, maxLength: opened.length };
const worldCases = fc.record({
  world: worlds,
  me: fc.constantFrom("p1", "p2", undefined),
  items: fc.array(items, { minLength: 4, maxLength: 4 }),
});

type WorldCase = typeof worldCases extends fc.Arbitrary<infer C> ? C : never;
const cases = fc.tuple(fc.array(conditions, handful), worldCases);

/** Few conditions that have every pair of productions between them: of many drawn ones, those that bring a new pair. */
function covering(): Condition[] {
  const met = new Map<string, number>();
  const bringing = fc.sample(conditions, { seed, numRuns: 6_000 }).filter((condition) => {
    const before = met.size;
    countPairs(condition, met);
    return met.size > before;
  });
  const more = fc.sample(conditions, { seed: seed + 1, numRuns: opened.length - (bringing.length % opened.length) });
  return [...bringing, ...more];
}

const telling = (drawn: readonly string[]) => [
  { to: ["anyone"], permit: { view: ["id", ...closed] } },
  ...drawn.map((where, index) => ({ to: ["anyone"], where, permit: { view: [opened[index] as string] } })),
  ...drawn.map((where, index) => ({ where, deny: { view: [closed[index] as string] } })),
];

describe.each(Object.entries(engines))("every production of the grammar on %s", (_name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, compile(documentFrom({ rules: [] })).schema);
  });
  afterAll(() => engine?.close());

  it("finds inside every other what it finds in memory", async () => {
    const counts = new Map<string, number>();
    let told = 0;
    const compare = async (drawn: readonly Condition[], { world, me, items: things }: WorldCase) => {
      const plain = compile(documentFrom({ rules: [] }));
      const rows = things.map((row, index) => ({ ...row, id: `i${index + 1}` }));
      const data = await storeAll(engine, plain.schema, { ...world, items: rows });
      for (const condition of drawn) countPairs(condition, counts);
      const written = drawn.map(printCondition);
      const portier = compile(documentFrom({ rules: telling(written) }));
      const person = me === undefined ? {} : { person: me };
      const session = portier.session({ ...person, source: portier.source(data), request: promised });
      const select = maskedSelect(session, "items", engine.dialect, { action: "view" });
      const found = await engine.run(select.text, select.params).catch((error: unknown) => {
        throw new Error(`${written.join("\n")}\n${select.text}`, { cause: error });
      });
      const seen = new Map(found.map((row) => [row["id"], select.unmask(row)]));
      for (const row of data["items"] ?? []) {
        const [shown, expected] = [seen.get(row["id"]) ?? {}, session.mask("items", row) ?? {}];
        for (const [index, condition] of written.entries()) {
          for (const field of [opened[index], closed[index]] as string[]) {
            told++;
            if (Object.hasOwn(shown, field) === Object.hasOwn(expected, field)) continue;
            throw new Error(`${field}, ${Object.hasOwn(expected, field)}: ${condition} ${JSON.stringify(row)}`);
          }
        }
        expect(shown).toEqual(expected);
      }
    };
    const covered = covering();
    const someWorlds = fc.sample(worldCases, { seed, numRuns: covered.length / opened.length });
    for (const [index, one] of someWorlds.entries()) {
      await compare(covered.slice(index * opened.length, (index + 1) * opened.length), one);
    }
    expect(pairs.filter((pair) => !counts.has(pair))).toEqual([]);
    const property = fc.asyncProperty(cases, ([drawn, one]) => compare(drawn, one));
    await fc.assert(property, { seed, numRuns: runs, endOnFailure: true });
    expect(told).toBeGreaterThan(runs);
    expect([...counts.keys()].filter((pair) => !pairs.includes(pair))).toEqual([]);
  }, 600_000);
});
