import { readFileSync } from "node:fs";
import fc from "fast-check";
import { compileText, editText, parseDocument } from "portier/document";
import { editRange, moveRanges } from "portier/ranges";
import { describe, expect, it } from "vitest";
import { stringify } from "yaml";
import { museumFile } from "../support/museum.js";
import { runsOf } from "../support/runs.js";

const museum = readFileSync(museumFile, "utf8");
type Plain = { readonly [key: string]: Plain } | readonly Plain[] | string | number | boolean | null;

const name = fc.constantFrom("a", "b", "c", "rules", "x y", "0", "yes", "__proto__", "constructor", "ü:", "# no");
const text = fc.constantFrom(
  "",
  "a",
  "director",
  "B2:F40",
  "no",
  "null",
  "1",
  "# x",
  "a: b",
  "it's",
  '"',
  "two\nlines",
  "- x",
  " y ",
);
const plain = fc.letrec<{ value: Plain; map: object }>((tie) => ({
  map: fc.dictionary(name, tie("value"), { maxKeys: 4 }),
  value: fc.oneof(
    { maxDepth: 4, withCrossShrink: true },
    text as fc.Arbitrary<Plain>,
    fc.constantFrom<Plain>(null, true, false, 7, -1.5),
    tie("map") as fc.Arbitrary<Plain>,
    fc.array(tie("value"), { maxLength: 3 }) as fc.Arbitrary<Plain>,
  ),
}));

/** A remark at each line's end where one can stand: between lines of a block, and not in a text of several lines. */
function remarked(yaml: string): string {
  return yaml
    .split("\n")
    .map((line, index) => (/^\s*(?:"[^"]*"|[a-z]+): [a-z0-9]+$/.test(line) ? `${line} # remark ${index}` : line))
    .join("\n");
}
const remarksOf = (yaml: string) => yaml.match(/# remark \d+/g) ?? [];

describe("a text that is changed in its place", () => {
  it("says what it should afterwards, whatever it said before", () => {
    fc.assert(
      fc.property(plain.map, plain.map, fc.boolean(), fc.nat(), (before, after, isFlow, at) => {
        const keys = Object.keys(before);
        // Mostly alike: one key of the one document in the other.
        const key = keys[at % (keys.length || 1)];
        const next = at % 3 === 0 || key === undefined ? after : { ...before, [key]: after };
        const written = stringify(before, isFlow ? { collectionStyle: "flow" } : {});
        const edited = editText(written, next);
        expect(parseDocument(edited).document).toEqual(next);
        expect(editText(edited, next)).toBe(edited);
      }),
      { numRuns: runsOf(400) },
    );
  });

  it("keeps every remark of what stays", () => {
    fc.assert(
      fc.property(plain.map, plain.value, (before, added) => {
        const written = remarked(stringify({ ...before, kept: { one: "two", three: "four" } }));
        const next = { ...(parseDocument(written).document as object), added };
        const edited = editText(written, next);
        expect(parseDocument(edited).document).toEqual(next);
        expect(remarksOf(edited)).toEqual(remarksOf(written));
      }),
    );
  });

  it("differs from the museum's rules in the lines that say something else alone", () => {
    const { document } = parseDocument(museum);
    const { document: moved } = moveRanges(document, "plan", { kind: "insert", of: "rows", at: 1, count: 1 });
    const place = { rule: "plan/heading-is-fixed", action: "edit", range: "A2:G2" };
    const edited = editText(museum, editRange(moved, place, { to: ["director", "treasurer"] }));
    const was = museum.split("\n");
    const changed = edited.split("\n").flatMap((line, index) => (line === was[index] ? [] : [line.trim()]));
    expect(changed).toEqual([
      "ranges: { heading: A2:G2, amounts: B3:E, totals: F3:F }",
      "to: [director, treasurer]",
      'first-quarter-is-over: { from: "2027-04-01", deny: { edit: { cells: B3:B } }, note: This quarter is over. }',
      'second-quarter-is-over: { from: "2027-07-01", deny: { edit: { cells: C3:C } }, note: This quarter is over. }',
      'third-quarter-is-over: { from: "2027-10-01", deny: { edit: { cells: D3:D } }, note: This quarter is over. }',
      'fourth-quarter-is-over: { from: "2028-01-01", deny: { edit: { cells: E3:E } }, note: This quarter is over. }',
    ]);
    compileText(edited);
    expect(editText(museum, document)).toBe(museum);
  });

  it("gets items behind a list's last one, with the remarks where they were", () => {
    fc.assert(
      fc.property(
        fc.array(plain.value, { minLength: 1, maxLength: 3 }),
        plain.value,
        fc.boolean(),
        (list, more, isFlow) => {
          const yaml = stringify({ list, after: "x" }, isFlow ? { collectionStyle: "flow" } : {});
          const written = isFlow
            ? yaml
            : yaml.replace("list:", "list: # remark 1").replace(/after: x/, "# remark 2\nafter: x");
          const next = { list: [...list, more], after: "x" };
          const edited = editText(written, next);
          expect(parseDocument(edited).document).toEqual(next);
          expect(remarksOf(edited)).toEqual(remarksOf(written));
        },
      ),
      { numRuns: runsOf(400) },
    );
  });

  it("is left alone where an alias stands for two places", () => {
    const yaml = "a: &x { one: 1 }\nb: *x\n";
    const say = (value: object) => editText(yaml, value);
    expect(say({ a: { one: 1 }, b: { one: 2 } })).toBe("a: &x { one: 1 }\nb: { one: 2 }\n");
    expect(() => say({ a: { one: 2 }, b: { one: 1 } })).toThrow(/wrong-call .*Write out what anchors/);
  });
});
