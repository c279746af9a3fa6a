import fc from "fast-check";
import { compile } from "portier";
import { expect, it } from "vitest";
import { compileTest } from "../../src/conditions/evaluate.js";
import { and, type Expression, not, or } from "../../src/conditions/expression.js";
import { simplify } from "../../src/conditions/simplify.js";
import { compileYes } from "../../src/conditions/yes.js";
import type { Field } from "../../src/schema/schema.js";
import { runsOf, seedOf } from "../support/runs.js";

// A condition without what it says twice has the truth of the whole for every record: true, false, unknown by a null, and
// unknown by bad data.

const { schema } = compile({
  portier: 1,
  tables: {
    t: {
      key: "a",
      fields: { a: "text", b: { choice: ["x", "y"], optional: true }, c: { type: "integer", optional: true } },
    },
  },
});
const field = (name: string): Field => schema.tables.get("t")?.byName.get(name) as Field;
const values = { a: ["x", "y", 7], b: ["x", "y", null, "z"], c: [1, "1", null, {}] };
const rows = values.a.flatMap((a) => values.b.flatMap((b) => values.c.map((c) => ({ a, b, c }))));
const reading = { source: undefined, badData: () => {}, fault: () => {} };

const isValue = fc
  .constantFrom<[string, string | number]>(["a", "x"], ["a", "y"], ["b", "x"], ["b", "y"], ["c", 1])
  .map(([name, value]): Expression => {
    const { type } = field(name);
    const left = { kind: "field", type, path: [field(name)] } as const;
    return { kind: "compare", op: "=", left, right: { kind: "constant", type, value } };
  });
const { tree } = fc.letrec<{ tree: Expression; leaf: Expression }>((tie) => ({
  leaf: fc.oneof(isValue, isValue.map(not)),
  tree: fc.oneof(
    { maxDepth: 4 },
    tie("leaf"),
    fc
      .tuple(fc.boolean(), fc.array(tie("tree"), { minLength: 1, maxLength: 4 }))
      .map(([isAnd, terms]) => (isAnd ? and(terms) : or(terms))),
  ),
}));

it("keeps the truth of every record", () => {
  const counts = { shorter: 0, same: 0, true: 0, false: 0, unknown: 0, bad: 0 };
  fc.assert(
    fc.property(tree, (expression) => {
      const simple = simplify(expression);
      const [whole, short, yes] = [compileTest(expression), compileTest(simple), compileYes(simple)];
      counts[JSON.stringify(simple).length < JSON.stringify(expression).length ? "shorter" : "same"]++;
      for (const row of rows) {
        const truth = whole(row, reading);
        expect(short(row, reading)).toBe(truth);
        expect(yes(row, reading)).toBe(truth === 3);
        counts[(["false", "unknown", "bad", "true"] as const)[truth]]++;
      }
    }),
    { seed: seedOf(1), numRuns: runsOf(500) },
  );
  for (const [what, count] of Object.entries(counts)) expect(count, what).toBeGreaterThan(50);
});

it("ends, however a condition is nested", () => {
  const [first, ...others] = fc.sample(isValue, { seed: 1, numRuns: 60 }) as [Expression, ...Expression[]];
  // As long as a condition may be, and as deep.
  const nested = others.reduce<Expression>((inner, leaf, level) => {
    const beside = others.slice(level % 50, (level % 50) + 10);
    return level % 2 === 0 ? and([or([inner, leaf]), or(beside)]) : or([and([inner, leaf]), and(beside)]);
  }, first);
  expect(compileTest(simplify(nested))({ a: "x", b: null, c: 1 }, reading)).toBe(
    compileTest(simplify(simplify(nested)))({ a: "x", b: null, c: 1 }, reading),
  );
});
