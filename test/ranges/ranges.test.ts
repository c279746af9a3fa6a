import { readFileSync } from "node:fs";
import fc from "fast-check";
import { compile, type DocumentInput, type TableInput } from "portier";
import { compileText, parseDocument } from "portier/document";
import {
  addRange,
  type CellRange,
  columnLetters,
  columnNumber,
  editRange,
  keptRanges,
  movedOut,
  moveRange,
  moveRanges,
  overlaps,
  parseRange,
  printRange,
  removeRange,
  type SheetChange,
} from "portier/ranges";
import { describe, expect, it } from "vitest";
import { portier as museum, museumFile } from "../support/museum.js";
import { runsOf } from "../support/runs.js";

const open = Number.POSITIVE_INFINITY;

describe("A1 notation", () => {
  it.each<[string, readonly [number, number, number, number] | undefined, string?]>([
    ["B2:F40", [2, 6, 2, 40]],
    ["C7", [3, 3, 7, 7]],
    ["G:G", [7, 7, 1, open]],
    ["2:2", [1, open, 2, 2]],
    ["A2:E", [1, 5, 2, open]],
    ["H:", [8, open, 1, open]],
    ["F40:B2", [2, 6, 2, 40], "B2:F40"],
    ["$B$2:f40", [2, 6, 2, 40], "B2:F40"],
    ["AA10", [27, 27, 10, 10]],
    ["", undefined],
    ["B", undefined],
    ["7", undefined],
    ["A0", undefined],
    ["A1:B2:C3", undefined],
    ["A2:5", undefined],
    ["2:E", undefined],
    ["A:E5", undefined],
    ["ABCD1", undefined],
    ["A99999999999", undefined],
    ["2:", undefined],
  ])("%s", (text, expected, printed = text) => {
    const range = parseRange(text);
    if (expected === undefined) expect(range).toBeUndefined();
    else {
      const [left, right, top, bottom] = expected;
      expect(range).toEqual({ left, right, top, bottom });
      expect(printRange(range as CellRange)).toBe(printed);
    }
  });

  it("is read back from its printed form as it was", () => {
    const end = (from: number, size: number) => (size === 0 ? open : from + size - 1);
    const ranges = fc
      .tuple(fc.integer({ min: 1, max: 60 }), fc.nat(9), fc.integer({ min: 1, max: 60 }), fc.nat(9))
      .map(([left, width, top, height]) => ({ left, right: end(left, width), top, bottom: end(top, height) }))
      // A range that is open to the right but not the whole of its rows or columns has no spelling of its own.
      .filter(
        ({ left, right, top, bottom }) =>
          right !== open || (left === 1 && bottom !== open) || (top === 1 && bottom === open),
      );
    fc.assert(
      fc.property(ranges, (range) => {
        if (range.left === 1 && range.right === open && range.bottom === open && range.top > 1) return;
        expect(parseRange(printRange(range))).toEqual(range);
      }),
    );
    for (let number = 1; number < 2_000; number++) expect(columnNumber(columnLetters(number))).toBe(number);
  });
});

const insert = (at: number, count: number, of: "rows" | "columns" = "rows"): SheetChange => ({
  kind: "insert",
  of,
  at,
  count,
});
const remove = (at: number, count: number, of: "rows" | "columns" = "rows"): SheetChange => ({
  kind: "delete",
  of,
  at,
  count,
});
const move = (at: number, count: number, to: number): SheetChange => ({ kind: "move", of: "rows", at, count, to });

describe("a range moves as in a spreadsheet", () => {
  it.each<[string, SheetChange, string | undefined]>([
    ["B2:F4", insert(1, 2), "B4:F6"],
    ["B2:F4", insert(2, 2), "B4:F6"],
    ["B2:F4", insert(3, 2), "B2:F6"],
    ["B2:F4", insert(5, 2), "B2:F4"],
    ["B2:F4", insert(2, 1, "columns"), "C2:G4"],
    ["B2:F4", insert(3, 1, "columns"), "B2:G4"],
    ["A2:E", insert(2, 3), "A5:E"],
    ["A2:E", insert(9, 3), "A2:E"],
    ["G:G", insert(4, 2), "G:G"],
    ["G:G", insert(4, 2, "columns"), "I:I"],
    ["2:2", insert(1, 1), "3:3"],
    ["H:", insert(9, 1, "columns"), "H:"],
    ["B2:F4", remove(1, 1), "B1:F3"],
    ["B2:F4", remove(3, 1), "B2:F3"],
    ["B2:F4", remove(1, 2), "B1:F2"],
    ["B2:F4", remove(4, 5), "B2:F3"],
    ["B2:F4", remove(2, 3), undefined],
    ["B2:F4", remove(1, 9), undefined],
    ["B2:F4", remove(2, 5, "columns"), undefined],
    ["A2:E", remove(1, 4), "A:E"],
    ["G:G", remove(1, 100), "G:G"],
    ["G:G", remove(7, 1, "columns"), undefined],
    ["A1:G1", move(1, 1, 5), "A4:G4"],
    ["B2:F4", move(2, 3, 9), "B6:F8"],
    ["B2:F4", move(9, 2, 3), "B2:F6"],
    ["B2:F4", move(3, 1, 9), "B2:F3"],
    ["B2:F4", move(9, 1, 1), "B3:F5"],
    ["B2:F4", move(3, 1, 3), "B2:F4"],
    ["B2:F4", move(3, 1, 2), "B2:F4"],
    ["B2:F4", move(2, 2, 5), "B2:F4"],
    ["A2:E", move(9, 1, 2), "A2:E"],
    ["A2:E", move(9, 1, 1), "A3:E"],
  ])("%s after %j is %s", (text, change, expected) => {
    const moved = moveRange(parseRange(text) as CellRange, change);
    expect(moved && printRange(moved)).toBe(expected);
  });

  it("holds the same cells afterwards, or says which it lost, whatever is inserted, deleted or moved", () => {
    // A sheet as a list of row numbers, the plainest thing that knows what becomes of each.
    const kinds = { insert: 0, delete: 0, move: 0, lost: 0, inside: 0 };
    const drawn = fc.record({
      top: fc.integer({ min: 1, max: 12 }),
      height: fc.integer({ min: 1, max: 6 }),
      kind: fc.constantFrom("insert" as const, "delete" as const, "move" as const),
      at: fc.integer({ min: 1, max: 16 }),
      count: fc.integer({ min: 1, max: 5 }),
      to: fc.integer({ min: 1, max: 20 }),
    });
    fc.assert(
      fc.property(drawn, ({ top, height, kind, at, count, to }) => {
        kinds[kind]++;
        const bottom = top + height - 1;
        const rows: (number | undefined)[] = Array.from({ length: 40 }, (_, index) => index + 1);
        if (kind === "insert") rows.splice(at - 1, 0, ...Array.from({ length: count }, () => undefined));
        else {
          const taken = rows.splice(at - 1, count);
          if (kind === "move") rows.splice(to > at + count ? to - count - 1 : to < at ? to - 1 : at - 1, 0, ...taken);
        }
        const change: SheetChange =
          kind === "move" ? { kind, of: "rows", at, count, to } : { kind, of: "rows", at, count };
        const range = { left: 1, right: 2, top, bottom };
        const moved = moveRange(range, change);
        const out = movedOut(range, change);
        const isLost = (row: number) => out !== undefined && row >= out.top && row <= out.bottom;
        if (out !== undefined) kinds.lost++;
        if (kind === "move" && at >= top && at + count - 1 <= bottom && out === undefined) kinds.inside++;
        const kept = rows.flatMap((row, index) =>
          row !== undefined && row >= top && row <= bottom && !isLost(row) ? [index + 1] : [],
        );
        // What is lost is outside, what is kept inside, from the first to the last.
        expect(moved === undefined ? [] : [moved.top, moved.bottom]).toEqual(
          kept.length === 0 ? [] : [kept[0], kept[kept.length - 1]],
        );
        const outside = (place: number) => moved === undefined || place < moved.top || place > moved.bottom;
        for (const [index, row] of rows.entries())
          if (row !== undefined && isLost(row)) expect(outside(index + 1)).toBe(true);
      }),
      { numRuns: runsOf(2_000) },
    );
    for (const [what, times] of Object.entries(kinds)) expect([what, times > 20]).toEqual([what, true]);
  });
});

describe("the ranges of a document", () => {
  const document = parseDocument(readFileSync(museumFile, "utf8")).document;

  it("are listed with who keeps them", () => {
    expect(
      keptRanges(museum, "plan").map(({ range, name, rule, effect, to }) => [range, name, rule, effect, to.join()]),
    ).toEqual([
      ["B2:B", undefined, "plan/first-quarter-is-over", "deny", "anyone"],
      ["E2:E", undefined, "plan/fourth-quarter-is-over", "deny", "anyone"],
      ["A1:G1", "heading", "plan/heading-is-fixed", "reserve", "director"],
      ["C2:C", undefined, "plan/second-quarter-is-over", "deny", "anyone"],
      ["D2:D", undefined, "plan/third-quarter-is-over", "deny", "anyone"],
      ["F2:F", "totals", "plan/totals-are-worked-out", "confirm", "anyone"],
      // Who may edit them, and who may protect them.
      ["B2:E", "amounts", "plan/treasurer-plans", "permit", "treasurer"],
      ["B2:E", "amounts", "plan/treasurer-plans", "permit", "treasurer"],
    ]);
    expect(keptRanges(museum, "objects")).toEqual([]);
  });

  it("follow an inserted row, and the document stays right", () => {
    const { document: moved, lost } = moveRanges(document, "plan", insert(1, 1));
    expect(lost).toEqual([]);
    expect(keptRanges(compile(moved), "plan").map(({ range }) => range)).toEqual([
      "B3:B",
      "E3:E",
      "A2:G2",
      "C3:C",
      "D3:D",
      "F3:F",
      "B3:E",
      "B3:E",
    ]);
    expect(moved.tables["objects"]).toBe(document.tables["objects"]);
  });

  it("are reported when nothing is left of them, with the rules that spoke of nothing else", () => {
    const { document: moved, lost } = moveRanges(document, "plan", remove(6, 1, "columns"));
    expect(lost).toEqual([{ range: "F2:F", of: "totals" }]);
    const rules = (moved as DocumentInput).tables["plan"] as { rules: object; ranges: object };
    expect(Object.keys(rules.ranges)).toEqual(["heading", "amounts"]);
    expect(rules.rules).not.toHaveProperty("totals-are-worked-out");
    expect(moveRanges(document, "plan", remove(1, 1)).lost).toEqual([{ range: "A1:G1", of: "heading" }]);
    // A row that is moved above what is held leaves it, and that is said for each range.
    expect(moveRanges(document, "plan", move(5, 1, 2)).lost).toEqual([]);
    expect(moveRanges(document, "plan", move(5, 1, 1)).lost).toContainEqual({ range: "B5:E5", of: "amounts" });
  });

  it("are edited with their keepers, and named ones everywhere", () => {
    const place = { rule: "plan/heading-is-fixed", action: "edit", range: "A1:G1" };
    const edited = editRange(document, place, { range: " a1:g2", to: ["director", "treasurer"], note: "Two rows." });
    const kept = keptRanges(compile(edited), "plan").find(({ rule }) => rule === place.rule);
    expect(kept).toMatchObject({ range: "A1:G2", name: "heading", to: ["director", "treasurer"], note: "Two rows." });
    // Keepers of another range, and no note.
    const copied = editRange(edited, { ...place, range: "A1:G2" }, { to: ["treasurer"], except: [], note: "" });
    const [heading] = keptRanges(compile(copied), "plan").filter(({ rule }) => rule === place.rule);
    expect(heading).toMatchObject({ to: ["treasurer"], note: undefined });
    const quarter = { rule: "plan/first-quarter-is-over", action: "edit", range: "B2:B" };
    const own = editRange(document, quarter, { range: "B3:B9" });
    expect(keptRanges(compile(own), "plan").map(({ range }) => range)).toContain("B3:B9");
    expect(own.tables["objects"]).toBe(document.tables["objects"]);
    expect(() => editRange(document, { ...quarter, range: "B3:B" }, {})).toThrow(/has no range B3:B for edit/);
    expect(() => editRange(document, { ...quarter, rule: "plan/none" }, {})).toThrow(/wrong-call/);
    expect(() => editRange(document, { ...quarter, rule: "__proto__/x" }, {})).toThrow(/wrong-call/);
    expect(() => editRange(document, quarter, { range: "B0" })).toThrow(/"B0" is not a cell range. Write B2:F40/);
  });

  it("are added with a rule of their own, and removed with what nothing else uses", () => {
    const given = { name: "openings", range: "b7:e7", effect: "reserve", to: ["director"], note: "Theirs." } as const;
    const added = addRange(document, "plan", given);
    const kept = keptRanges(compile(added), "plan").find(({ name }) => name === "openings");
    expect(kept).toMatchObject({ range: "B7:E7", rule: "plan/openings", effect: "reserve", note: "Theirs." });
    const place = { rule: "plan/openings", action: "edit", range: "B7:E7" };
    expect(removeRange(added, place)).toEqual(document);
    expect(() => addRange(added, "plan", given)).toThrow(/has a "openings" already/);
    expect(() => addRange(document, "objects", given)).toThrow(/"objects" is not a grid/);
    // A name that another rule uses stays, and so does a rule that has another range.
    const twice = addRange(document, "plan", { ...given, name: "more", range: "A1:A1" });
    const rule = { reserve: { edit: { cells: ["more", "C9"] } } };
    const plan = twice.tables["plan"] as TableInput;
    const both = { ...twice, tables: { ...twice.tables, plan: { ...plan, rules: { ...plan.rules, both: rule } } } };
    const left = removeRange(both, { rule: "plan/both", action: "edit", range: "A1" }).tables["plan"] as TableInput;
    expect(left.rules?.["both"]).toEqual({ reserve: { edit: { cells: ["C9"] } } });
    expect(left.ranges).toHaveProperty("more");
  });

  it.each([
    ["A1:K1", /range-outside {2}Range "A1:K1" ends beyond the last column, B/],
    ["headng", /bad-range {2}"headng" is not a cell range. Did you mean the range "heading"/],
    ["A0", /bad-range .*Write B2:F40/],
  ])("are refused when they are wrong: %s", (cells, message) => {
    const text = `portier: 1
tables:
  t:
    key: id
    grid: { position: row }
    ranges: { heading: "A1:B1" }
    fields: { id: text, row: integer, a: text, b: text }
    rules: { one: { deny: { edit: { cells: "${cells}" } } } }
`;
    expect(() => compileText(text, { file: "d" })).toThrow(message);
  });

  it("overlap where they share a cell", () => {
    const pairs: [string, string, boolean][] = [
      ["A1:B2", "B2:C3", true],
      ["A1:B2", "C1:C9", false],
      ["A:A", "1:1", true],
      ["H:", "A2:G", false],
    ];
    for (const [a, b, expected] of pairs)
      expect(overlaps(parseRange(a) as CellRange, parseRange(b) as CellRange)).toBe(expected);
  });
});

describe("a column with a thousand ranges", () => {
  it("judges each row by the ranges that hold it", () => {
    const rules = Object.fromEntries(
      Array.from({ length: 1_000 }, (_, index) => [
        `r${index}`,
        { to: `k${index % 7}`, reserve: { edit: { cells: `A${index * 3 + 1}:C${index * 3 + 2}` } } },
      ]),
    );
    const grid = compile({
      portier: 1,
      people: { table: "staff", roles: "post" },
      roles: Object.fromEntries(Array.from({ length: 7 }, (_, index) => [`k${index}`, {}])),
      tables: {
        staff: { key: "id", fields: { id: "text", post: "text" } },
        sheet: {
          key: "id",
          grid: { position: "row" },
          fields: { id: "text", row: "integer", a: "text", b: "text", c: "text", d: "text" },
          rules: { ...rules, open: { to: "signed-in", permit: { view: "all", edit: "all" } } },
        },
      },
    });
    const session = grid.session({ person: { id: "p", post: "k3" } });
    for (let row = 1; row < 3_100; row++) {
      const index = Math.floor((row - 1) / 3);
      const isHeld = row % 3 !== 0 && index < 1_000 && index % 7 !== 3;
      const record = { id: "x", row, a: "", b: "", c: "", d: "" };
      expect(session.may("edit", "sheet", record, "b"), `row ${row}`).toBe(!isHeld);
      expect(session.may("edit", "sheet", record, "d")).toBe(true);
    }
  });
});
