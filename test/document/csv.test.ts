import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import fc from "fast-check";
import Papa from "papaparse";
import { compile, type PortierError, type Row } from "portier";
import { readData } from "portier/document";
import { describe, expect, it } from "vitest";
import { printCsv } from "../../src/schema/print-csv.js";
import { portierCli } from "../support/cli.js";
import { museumFile, portier, records } from "../support/museum.js";
import { runsOf } from "../support/runs.js";

/** A value as a spreadsheet's file has it; a text that would be a formula stands behind an apostrophe. */
function cell(value: unknown): string {
  if (value === null || value === undefined) return "";
  const text = typeof value === "object" ? JSON.stringify(value) : String(value);
  const safe = /^[=+\-@\t\r]/.test(text) && typeof value === "string" ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

function csvOf(names: readonly string[], rows: readonly Row[]): string {
  return [names.join(","), ...rows.map((row) => names.map((name) => cell(row[name])).join(","))].join("\r\n");
}

describe("records in CSV", () => {
  it("are those that JSON gives, for the whole museum", () => {
    for (const table of portier.schema.tables.values()) {
      const names = table.fields.filter(({ lookup }) => lookup === undefined).map(({ name }) => name);
      const rows = records(table.name);
      const { tables } = readData(portier, [{ table: table.name, file: "x.csv", text: csvOf(names, rows) }]);
      expect(tables.get(table.name)).toEqual(rows);
    }
  });

  it("come back as they went, whatever is in their texts", () => {
    const declared = compile({
      portier: 1,
      tables: {
        t: {
          key: "id",
          fields: {
            id: "integer",
            a: { type: "text", optional: true },
            b: { type: "boolean", optional: true },
            c: { list: "text", optional: true },
            d: { type: "decimal", optional: true },
          },
        },
      },
    });
    const text = fc.oneof(
      fc.string({ minLength: 1 }),
      fc.constantFrom("=1+1", "-5", "true", "null", '"', "a,b", "\n", "'", "[1]", "{}", " x "),
    );
    // An apostrophe before what looks like a formula is what keeps it from being one, and no part of the text.
    const own = text.filter((one) => !/^'[=+\-@\t\r]/.test(one) && !one.includes("\r"));
    const row = fc.record({
      a: fc.option(own),
      b: fc.option(fc.boolean()),
      c: fc.option(fc.array(own, { maxLength: 3 })),
      d: fc.option(fc.constantFrom("1.50", "0.00", "12345678901234567890.12")),
    });
    fc.assert(
      fc.property(fc.array(row, { maxLength: 5 }), (rows) => {
        const stored = rows.map((one, id) => ({ id, ...one }));
        const csv = csvOf(["id", "a", "b", "c", "d"], stored);
        const { tables } = readData(declared, [{ table: "t", file: "t.csv", text: csv }]);
        expect(tables.get("t")).toEqual(stored);
      }),
    );
  });

  it.each<[string, string, RegExp]>([
    [
      "a name that is not a field",
      "id,name,haed\nx,Ships,\ny,Arms,\n",
      /departments\.csv:1:1 {2}unknown-field.*Did you mean "head"/,
    ],
    ["a cell too many", "id,name\nx,Ships,1\n", /departments\.csv:2:1 {2}not-csv {2}.*3 cells under 2 names/],
    ["a quote that does not end", 'id,name\nx,"Ships\n', /departments\.csv:2:1 {2}not-csv/],
    [
      "a key twice, behind a cell of two lines",
      'id,name\nx,"Two\nlines"\nx,Ships\n',
      /departments\.csv:4:1 {2}duplicate-record/,
    ],
  ])("are refused with the line: %s", (_what, text, expected) => {
    try {
      readData(portier, [{ table: "departments", file: "departments.csv", text }]);
      expect.unreachable();
    } catch (error) {
      expect((error as PortierError).message).toMatch(expected);
    }
  });

  it("are counted on by the commands, and not beside the same table in JSON", () => {
    const folder = mkdtempSync(join(tmpdir(), "csv-"));
    for (const table of portier.schema.tables.values()) {
      const names = table.fields.filter(({ lookup }) => lookup === undefined).map(({ name }) => name);
      writeFileSync(join(folder, `${table.name}.csv`), csvOf(names, records(table.name)));
    }
    const matrix = (data: string) =>
      portierCli(["matrix", museumFile, "--data", data, "--at", "2026-11-24", "--format", "json"]);
    const [csv, json] = [matrix(folder), matrix(museumFile.replace(/[^/]*$/, "data"))];
    expect(csv.out).toBe(json.out);
    writeFileSync(join(folder, "staff.json"), "[]");
    expect(matrix(folder).err).toMatch(/holds staff\.(?:csv|json) and staff\.(?:csv|json): one of them must go/);
    rmSync(folder, { recursive: true });
  });
});

describe("a printed file", () => {
  // Signs behind a line break, full-width signs, and cells that begin where another separator stands were passed on.
  it("holds no cell that a spreadsheet would run, whatever it takes for the separator", () => {
    const parts = fc.constantFrom(
      ..."= + - @ ＝ ＋ － ＠ ; | , a 1 1.5 ' \"".split(" "),
      " ",
      "\t",
      "\r",
      "\n",
      "=cmd|' /C x'!A0",
    );
    const texts = fc.array(parts, { maxLength: 6 }).map((all) => all.join(""));
    let neutralised = 0;
    fc.assert(
      fc.property(fc.array(fc.array(texts, { minLength: 1, maxLength: 3 }), { minLength: 1 }), (lines) => {
        const printed = printCsv(lines);
        for (const delimiter of [",", ";", "\t", "|"]) {
          const cells = Papa.parse<string[]>(printed, { delimiter }).data.flat();
          for (const cell of cells) {
            // A number, or a line that begins with one and is not divided at all.
            if (/^\s*[+-]?\d+(\.\d+)?(,|$)/.test(cell)) continue;
            expect(cell, JSON.stringify(printed)).not.toMatch(/^\s*[=+\-@＝＋－＠]/);
          }
        }
        // What is read back is what was written, but for the apostrophes.
        const read = Papa.parse<string[]>(printed, { delimiter: ",", newline: "\r\n" }).data.slice(0, lines.length);
        expect(read.map((line) => line.map((cell) => cell.replaceAll("'", "")))).toEqual(
          lines.map((line) => line.map((cell) => cell.replaceAll("'", ""))),
        );
        if (printed.includes("'")) neutralised++;
      }),
      { numRuns: runsOf(1_000) },
    );
    expect(neutralised).toBeGreaterThan(200);
  });
});
