import exceljs from "exceljs";
import fc from "fast-check";
import { strFromU8, strToU8, unzipSync, zipSync } from "fflate";
import { parseRange } from "portier/ranges";
import { protectionsFromSheet, readSheetProtection, writeSheetProtection } from "portier/workbook";
import { describe, expect, it } from "vitest";
import { runsOf } from "../support/runs.js";

const letters = "ABCDEFGH";
const width = 8;
const height = 12;

/** A workbook as other programs write it: cells of several formats, some of them open. */
async function workbookOf(open: ReadonlySet<string>, isProtected: boolean): Promise<Uint8Array> {
  const workbook = new exceljs.Workbook();
  workbook.addWorksheet("Notes & more").getCell("A1").value = "elsewhere";
  const sheet = workbook.addWorksheet("Plan");
  for (let row = 1; row <= height; row++) {
    for (let column = 1; column <= width; column++) {
      const cell = sheet.getCell(row, column);
      cell.value = row * column;
      if (row % 3 === 0) cell.font = { bold: true };
      if (column % 2 === 0) cell.alignment = { horizontal: "right" };
      if (open.has(cell.address)) cell.protection = { locked: false };
    }
  }
  if (isProtected) await sheet.protect("", {});
  return new Uint8Array(await workbook.xlsx.writeBuffer());
}

/** Which cells another program reads as open. */
async function openIn(bytes: Uint8Array): Promise<string[]> {
  const workbook = new exceljs.Workbook();
  await workbook.xlsx.load(bytes.slice().buffer);
  const sheet = workbook.getWorksheet("Plan");
  const found: string[] = [];
  sheet?.eachRow((row) => row.eachCell((cell) => cell.protection?.locked === false && found.push(cell.address)));
  return found.sort();
}

const cellsOf = (ranges: readonly string[]) =>
  ranges
    .flatMap((text) => {
      const range = parseRange(text);
      if (range === undefined) throw new Error(text);
      const found: string[] = [];
      for (let row = range.top; row <= Math.min(range.bottom, height); row++)
        for (let column = range.left; column <= Math.min(range.right, width); column++)
          found.push(`${letters[column - 1]}${row}`);
      return found;
    })
    .sort();

const addresses = fc.uniqueArray(
  fc
    .tuple(fc.integer({ min: 0, max: width - 1 }), fc.integer({ min: 1, max: height }))
    .map(([c, r]) => `${letters[c]}${r}`),
  { maxLength: 30 },
);
const named = fc.uniqueArray(
  fc.record({
    name: fc.constantFrom("amounts", 'a "name" & <more>', "Übrige\nZeilen"),
    ranges: fc.uniqueArray(fc.constantFrom("B2:C4", "D:D", "A5", "G2:G", "7:7", "H:"), { minLength: 1, maxLength: 3 }),
  }),
  { maxLength: 2, selector: ({ name }) => name },
);

describe("the protection of a sheet in a workbook", () => {
  it("is read as other programs write it", async () => {
    await fc.assert(
      fc.asyncProperty(addresses, fc.boolean(), async (open, isProtected) => {
        const read = readSheetProtection(await workbookOf(new Set(open), isProtected), { sheet: "Plan" });
        expect(read).toMatchObject({ sheet: "Plan", isProtected, ranges: [] });
        expect(cellsOf(read.unlocked)).toEqual([...open].sort());
      }),
      { numRuns: runsOf(25) },
    );
  });

  it("is written so that other programs read it, and nothing else of the file changes", async () => {
    await fc.assert(
      fc.asyncProperty(addresses, addresses, named, fc.boolean(), async (before, open, ranges, isProtected) => {
        const given = await workbookOf(new Set(before), true);
        const unlocked = open;
        const made = writeSheetProtection(given, { isProtected, ranges, unlocked }, { sheet: "Plan" });
        const expected = [...new Set([...open, ...cellsOf(ranges.flatMap((one) => one.ranges))])].sort();
        expect(await openIn(made)).toEqual(expected);
        const read = readSheetProtection(made, { sheet: "Plan" });
        expect(read).toMatchObject({ isProtected, ranges });
        expect(cellsOf(read.unlocked)).toEqual(expected);
        const [old, now] = [given, made].map((one) => unzipSync(one)) as [Parts, Parts];
        expect(Object.keys(now)).toEqual(Object.keys(old));
        const changed = Object.keys(now).filter(
          (name) => strFromU8(now[name] as Uint8Array) !== strFromU8(old[name] as Uint8Array),
        );
        expect(changed.filter((name) => !/styles|sheet2/.test(name))).toEqual([]);
        // Written once more, it is as it was.
        expect(readSheetProtection(writeSheetProtection(made, read, { sheet: "Plan" }), { sheet: "Plan" })).toEqual(
          read,
        );
      }),
      { numRuns: runsOf(25) },
    );
  });

  it("is of the first sheet unless one is named, and of none that is not there", async () => {
    const bytes = await workbookOf(new Set(), true);
    expect(readSheetProtection(bytes)).toMatchObject({ sheet: "Notes & more", isProtected: false });
    expect(() => readSheetProtection(bytes, { sheet: "Plans" })).toThrow(
      /no sheet "Plans"; there are "Notes & more", "Plan"/,
    );
  });

  it("stands in a file with prefixes, comments and odd quotes, too", async () => {
    const bytes = await workbookOf(new Set(["B2"]), true);
    const parts = unzipSync(bytes);
    const path = "xl/worksheets/sheet2.xml";
    const sheet = strFromU8(parts[path] as Uint8Array)
      .replace(/<(\/?)(?=[a-zA-Z])/g, "<$1x:")
      .replace("xmlns=", "xmlns:x=")
      .replace("<x:sheetData>", "<!-- <x:sheetProtection sheet='0'/> --><x:sheetData>")
      .replace(/ s="(\d+)"/g, " s='$1'");
    parts[path] = strToU8(sheet);
    const odd = zipSync(parts);
    expect(readSheetProtection(odd, { sheet: "Plan" })).toMatchObject({ isProtected: true, unlocked: ["B2"] });
    const made = writeSheetProtection(odd, { isProtected: true, ranges: [], unlocked: ["C3"] }, { sheet: "Plan" });
    expect(readSheetProtection(made, { sheet: "Plan" })).toMatchObject({ isProtected: true, unlocked: ["C3"] });
  });

  it.each([
    ["no file", new Uint8Array()],
    ["no zip", strToU8("PK no workbook")],
    ["a zip of something else", zipSync({ "a.txt": strToU8("a") })],
    ["one that unfolds to very much", zipSync({ "xl/workbook.xml": new Uint8Array(120_000_000) }, { level: 9 })],
  ])("is not read of %s", (_what, bytes) => {
    expect(() => readSheetProtection(bytes)).toThrow(/bad-workbook/);
  });

  it("becomes protections: what is locked is nobody's, and a named range theirs", () => {
    const sheet = {
      sheet: "Plan",
      isProtected: true,
      ranges: [{ name: "amounts", ranges: ["B2:E"] }],
      unlocked: ["A5"],
    };
    expect(protectionsFromSheet(sheet, "plan", ["treasurer"])).toEqual([
      { kind: "protect", table: "plan", ranges: ["A:"], except: ["A5", "B2:E"], to: [], note: "Locked in Plan." },
      { kind: "protect", table: "plan", ranges: ["B2:E"], to: ["treasurer"], note: "amounts" },
    ]);
    expect(protectionsFromSheet({ ...sheet, isProtected: false }, "plan", ["treasurer"])).toEqual([]);
  });
});

type Parts = Record<string, Uint8Array>;
