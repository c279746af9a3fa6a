import fc from "fast-check";
import { expect, it } from "vitest";
import { RowSegments } from "../../src/session/row-segments.js";
import { runsOf, seedOf } from "../support/runs.js";

// Borders that lie close together and far apart: a row is found among them by where it lies, and then by halves.
const row = fc.oneof(fc.integer({ min: 1, max: 40 }), fc.integer({ min: 1, max: 100_000 }), fc.maxSafeNat());
const ranges = fc.array(
  fc
    .tuple(row, fc.option(row, { nil: Number.POSITIVE_INFINITY }))
    .map(([from, to]) => ({ from, to: Math.max(from, to) })),
  { maxLength: 60 },
);

it("finds the segment of any row", () => {
  fc.assert(
    fc.property(ranges, fc.array(fc.oneof(row, fc.integer())), (drawn, rows) => {
      const segments = new RowSegments(drawn);
      const atBorders = drawn.flatMap(({ from, to }) => [from - 1, from, from + 1, to - 1, to, to + 1]);
      for (const one of [...rows, ...atBorders.filter(Number.isSafeInteger)]) {
        expect(segments.of(one)).toBe(segments.borders.filter((border) => border <= one).length - 1);
      }
    }),
    { seed: seedOf(1), numRuns: runsOf(300) },
  );
});
