import exceljs from "exceljs";
import JSZip from "jszip";
import type { Row } from "portier";
import { columnLetters } from "portier/ranges";

/** A grid as a workbook is to hold it. */
export interface SheetOut {
  readonly name: string;
  /** From A on. */
  readonly columns: readonly { readonly name: string; readonly isNumber: boolean }[];
  readonly rows: readonly RowOut[];
  /** Names of ranges that let somebody edit, in A1 notation. */
  readonly named: readonly { readonly name: string; readonly range: string }[];
}

export interface RowOut {
  readonly position: number;
  readonly record: Row;
  /** For each column whether who takes it out may edit the cell: the others are locked. */
  readonly open: readonly boolean[];
}

/** Cells that may be edited in a protected sheet, as OOXML has them. */
export interface ProtectedRange {
  readonly name: string;
  /** In A1 notation; several with blanks between, as it is written in the file. */
  readonly range: string;
}

/** The last row that a sheet has: a range down to it is open downwards. */
export const lastRow = 1_048_576;
/**
 * A workbook with one protected sheet. Cells that may be edited are unlocked, and stand in its protected ranges
 * (ISO/IEC 29500-1, 18.3.1.72) under the names that they have here.
 */
export async function writeWorkbook({ name, columns, rows, named }: SheetOut): Promise<Uint8Array> {
  const workbook = new exceljs.Workbook();
  const sheet = workbook.addWorksheet(name);
  const open = new Set<string>();
  for (const { position, record, open: isOpenAt } of rows) {
    for (const [index, column] of columns.entries()) {
      const cell = sheet.getCell(position, index + 1);
      const value = record[column.name];
      if (value !== null && value !== undefined) cell.value = column.isNumber ? Number(value) : textOf(value);
      const isOpen = isOpenAt[index] === true;
      if (isOpen) open.add(`${index + 1}/${position}`);
      cell.protection = { locked: !isOpen };
      if (column.isNumber) cell.numFmt = "0.00";
    }
  }
  for (const [index] of columns.entries()) sheet.getColumn(index + 1).width = index === 0 ? 36 : 12;
  await sheet.protect("", { formatColumns: true });
  const bottom = Math.max(0, ...rows.map(({ position }) => position));
  const areas = blocksOf(open, columns.length, bottom).map((block, index) => nameBlock(block, named, bottom, index));
  return withProtectedRanges(new Uint8Array(await workbook.xlsx.writeBuffer()), areas);
}

function textOf(value: unknown): string {
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

interface Block {
  readonly left: number;
  readonly right: number;
  readonly top: number;
  readonly bottom: number;
}

/** Cells as rectangles: runs down each column, joined with the same run of the column before. */
function blocksOf(open: ReadonlySet<string>, width: number, height: number): Block[] {
  const blocks = new Map<string, Block>();
  for (let column = 1; column <= width; column++) {
    let top: number | undefined;
    for (let row = 1; row <= height + 1; row++) {
      const isOpen = open.has(`${column}/${row}`);
      if (isOpen && top === undefined) top = row;
      if (isOpen || top === undefined) continue;
      const run = { left: column, right: column, top, bottom: row - 1 };
      const beside = `${column - 1} ${run.top} ${run.bottom}`;
      const joined = blocks.get(beside);
      blocks.delete(beside);
      blocks.set(`${column} ${run.top} ${run.bottom}`, joined === undefined ? run : { ...joined, right: column });
      top = undefined;
    }
  }
  return [...blocks.values()];
}

/** A rectangle under the name of the range that it is; one that is open downwards here is so there. */
function nameBlock(block: Block, named: SheetOut["named"], bottom: number, index: number): ProtectedRange {
  const area = (last: number) =>
    `${columnLetters(block.left)}${block.top}:${columnLetters(block.right)}${last}`.replace(/^(\w+):\1$/, "$1");
  const isWhole = block.bottom === bottom;
  const openArea = `${columnLetters(block.left)}${block.top}:${columnLetters(block.right)}`;
  const found = named.find(({ range }) => range === area(block.bottom) || (isWhole && range === openArea));
  if (found === undefined) return { name: `cells_${index + 1}`, range: area(block.bottom) };
  return { name: found.name, range: found.range === openArea ? area(lastRow) : found.range };
}

export const sheetFile = "xl/worksheets/sheet1.xml";
export const escapes: Readonly<Record<string, string>> = { "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" };

/** The library that writes the workbook knows no protected ranges: they are put where the standard has them. */
async function withProtectedRanges(workbook: Uint8Array, ranges: readonly ProtectedRange[]): Promise<Uint8Array> {
  if (ranges.length === 0) return workbook;
  const zip = await JSZip.loadAsync(workbook);
  const xml = (await zip.file(sheetFile)?.async("string")) ?? "";
  const items = ranges.map(({ name, range }) => {
    const safe = name.replaceAll(/[&<>"]/g, (sign) => escapes[sign] ?? sign);
    return `<protectedRange sqref="${range}" name="${safe}"/>`;
  });
  const after = /<sheetProtection\b[^>]*\/>/;
  if (!after.test(xml)) throw new Error("the sheet is not protected");
  zip.file(
    sheetFile,
    xml.replace(after, (found) => `${found}<protectedRanges>${items.join("")}</protectedRanges>`),
  );
  return zip.generateAsync({ type: "uint8array", compression: "DEFLATE" });
}
