import fc from "fast-check";
import { compile } from "portier";
import { maskedSelect } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { printCondition } from "../../src/conditions/printer.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { countPairs, pairs } from "../support/grammar.js";
import { conditions, documentFrom, items, promised, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

// A run is one world and what a handful of conditions find in it.
const runs = runsOf(110);
const seed = seedOf(972911585);

/** Each condition opens a field by a permit, and closes another by a deny: so true, false and unknown are told apart. */
const opened = ["title", "status", "keeper", "dept", "level", "price", "due", "seen", "flag", "labels"];
const closed = ["helpers", "counts", "sums", "dates", "times", "marks", "stages", "extra", "event", "member"];

const cases = fc.record({
  drawn: fc.array(conditions, { minLength: opened.length, maxLength: opened.length }),
  world: worlds,
  me: fc.constantFrom("p1", "p2", undefined),
  items: fc.array(items, { minLength: 4, maxLength: 4 }),
});

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
    const missing = () => pairs.filter((pair) => !counts.has(pair));
    const property = fc.asyncProperty(cases, async ({ drawn, world, me, items: things }) => {
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
    });
    // A rare pair can be missing from one round, by chance; from so many it is not.
    for (let round = 0; round < 5 && (round === 0 || missing().length > 0); round++) {
      await fc.assert(property, { seed: seed + round, numRuns: runs, endOnFailure: true });
    }
    expect(told).toBeGreaterThan(runs);
    expect(missing()).toEqual([]);
    expect([...counts.keys()].filter((pair) => !pairs.includes(pair))).toEqual([]);
  }, 600_000);
});
