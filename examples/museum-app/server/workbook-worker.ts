import { Readable } from "node:stream";
import { parentPort, workerData } from "node:worker_threads";
import exceljs from "exceljs";
import JSZip from "jszip";
import { type NamedCells, readSheetProtection } from "portier/workbook";
import { BadWorkbook, type SheetIn } from "./read-workbook.js";

// Runs in a worker of its own: a workbook is somebody else's file, and what reads it can be stopped.

const mostRows = 20_000;
const mostColumns = 200;
const mostCells = 500_000;
/** Bytes of all that is packed in a workbook at most: a small file can unfold to very much. */
const largestUnpacked = 50_000_000;

/** What is not read, and what the library that reads workbooks would expand to every cell that it is about. */
const leftOut = ["definedNames", "mergeCells", "dataValidations", "conditionalFormatting", "hyperlinks", "tableParts"];

/** The first sheet of a workbook: what its cells show, and its protected ranges. */
async function readSheet(bytes: Uint8Array): Promise<SheetIn> {
  const workbook = new exceljs.Workbook();
  let ranges: readonly NamedCells[];
  try {
    const zip = await JSZip.loadAsync(bytes);
    await mustBeSmall(zip);
    ranges = readSheetProtection(bytes).ranges;
    await leaveOut(zip);
    // What it reads is the zip file's own bytes; its types speak of an older kind of buffer.
    await workbook.xlsx.load((await zip.generateAsync({ type: "uint8array" })).slice().buffer);
  } catch (error) {
    throw error instanceof BadWorkbook ? error : new BadWorkbook("This file is not an XLSX workbook.");
  }
  const [sheet] = workbook.worksheets;
  if (sheet === undefined) throw new BadWorkbook("This workbook has no sheet.");
  if (sheet.rowCount > mostRows || sheet.columnCount > mostColumns) {
    throw new BadWorkbook(`A sheet has ${mostRows} rows and ${mostColumns} columns at most.`);
  }
  const cells = Array.from({ length: sheet.rowCount }, (_, row) =>
    Array.from({ length: sheet.columnCount }, (_, column) => shownIn(sheet.getCell(row + 1, column + 1).value)),
  );
  return { cells, ranges };
}

/** Unpacks piece by piece, and stops where it becomes too much: what the file says of its sizes may be a lie. */
async function mustBeSmall(zip: JSZip): Promise<void> {
  let size = 0;
  for (const file of Object.values(zip.files)) {
    if (file.dir) continue;
    // Its streams are of an older kind, which cannot be gone through so.
    for await (const part of new Readable().wrap(file.nodeStream()) as AsyncIterable<Uint8Array>) {
      size += part.length;
      if (size > largestUnpacked) throw new BadWorkbook("This workbook unpacks to more than the limit.");
    }
  }
}

/** Takes out of every part what is not read, and counts the cells that are left. */
async function leaveOut(zip: JSZip): Promise<void> {
  let cells = 0;
  for (const [name, file] of Object.entries(zip.files)) {
    if (file.dir || !/\.xml$/i.test(name) || !/^\/?xl\/(workbook|worksheets\/)/i.test(name)) continue;
    const text = leftOut.reduce(without, await file.async("string"));
    for (let at = text.indexOf("<c "); at >= 0; at = text.indexOf("<c ", at + 3)) cells += 1;
    if (cells > mostCells) throw new BadWorkbook(`A workbook has ${mostCells} cells at most.`);
    zip.file(name, text);
  }
}

/** A text without the elements of a name. */
function without(text: string, element: string): string {
  const [begin, end] = [`<${element}`, `</${element}>`];
  const kept: string[] = [];
  let from = 0;
  for (let at = text.indexOf(begin); at >= 0; at = text.indexOf(begin, from)) {
    kept.push(text.slice(from, at));
    const close = text.indexOf(">", at);
    const last = text[close - 1] === "/" ? close + 1 : text.indexOf(end, at) + end.length;
    if (close < 0 || last < at + begin.length) throw new BadWorkbook("This file is not an XLSX workbook.");
    from = last;
  }
  kept.push(text.slice(from));
  return kept.join("");
}

/** What a cell shows, as text: of a formula what it came to. */
function shownIn(value: unknown): string | null {
  if (value === null || value === undefined || value === "") return null;
  if (value instanceof Date) return value.toISOString().slice(0, 10);
  if (typeof value !== "object") return String(value);
  if ("result" in value) return shownIn(value.result);
  if ("richText" in value) return (value.richText as { text: string }[]).map(({ text }) => text).join("");
  return "text" in value ? shownIn(value.text) : null;
}

try {
  parentPort?.postMessage({ sheet: await readSheet(workerData as Uint8Array) });
} catch (error) {
  parentPort?.postMessage({ bad: error instanceof BadWorkbook ? error.message : "This file is not an XLSX workbook." });
}
