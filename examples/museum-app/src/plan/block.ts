import Papa from "papaparse";
import type { Row } from "portier";
import { columnLetters } from "portier/ranges";
import type { ShapeField } from "../api.js";

/** A place in the plan: the row's index and the column's, from 0. */
export interface Place {
  readonly row: number;
  readonly column: number;
}

/** A rectangle of cells, ends included. */
export interface Area {
  readonly top: number;
  readonly left: number;
  readonly bottom: number;
  readonly right: number;
}

/** One cell that is to have another value. */
export interface CellChange {
  /** The record's key. */
  readonly key: string;
  readonly field: string;
  readonly value: unknown;
  /** As it is called: `B4`. */
  readonly address: string;
}

/** What a block of texts would change, and what of it lies beyond the plan. */
export interface BlockChanges {
  readonly changes: readonly CellChange[];
  /** Rows of the block below the last row. */
  readonly rowsBeyond: number;
  readonly columnsBeyond: number;
}

export type Block = readonly (readonly (string | null)[])[];

export function areaOf(a: Place, b: Place): Area {
  return {
    top: Math.min(a.row, b.row),
    bottom: Math.max(a.row, b.row),
    left: Math.min(a.column, b.column),
    right: Math.max(a.column, b.column),
  };
}

export function isIn({ top, bottom, left, right }: Area, { row, column }: Place): boolean {
  return row >= top && row <= bottom && column >= left && column <= right;
}

/** `B4`; of a row its number in the plan counts, not where it stands on the screen. */
export function addressOf(column: number, position: unknown): string {
  return `${columnLetters(column + 1)}${String(position)}`;
}

/** Cells as spreadsheets put them on the clipboard, or with commas as in a file. */
export function blockText(block: Block, delimiter: "\t" | "," = "\t"): string {
  return Papa.unparse(block as (string | null)[][], { delimiter, newline: delimiter === "," ? "\r\n" : "\n" });
}

/** Cells as a CSV file has them; a text that a spreadsheet would take for a formula is kept from being one. */
export function fileText(block: Block): string {
  const guarded = block.map((line) =>
    line.map((text) => (text !== null && /^[=+\-@\t\r]/.test(text) && Number.isNaN(Number(text)) ? `'${text}` : text)),
  );
  return blockText(guarded, ",");
}

/** The cells of such a file. */
export function readFileText(text: string): Block {
  return readBlock(text, "").map((line) => line.map((cell) => cell?.replace(/^'(?=[=+\-@\t\r])/, "") ?? null));
}

/** The cells of a text; without a delimiter it is found out. */
export function readBlock(text: string, delimiter: "\t" | "" = "\t"): Block {
  const { data } = Papa.parse<string[]>(text.replace(/\r?\n$/, ""), { delimiter });
  return data;
}

/** The cells of a block that differ from what is there, from a place on. */
export function changesOf(block: Block, at: Place, rows: readonly Row[], columns: readonly ShapeField[]): BlockChanges {
  const changes: CellChange[] = [];
  const widest = Math.max(0, ...block.map((line) => line.length));
  for (const [down, line] of block.entries()) {
    const record = rows[at.row + down];
    if (record === undefined) break;
    for (const [right, text] of line.entries()) {
      const column = at.column + right;
      const field = columns[column];
      if (field === undefined || !Object.hasOwn(record, field.name)) continue;
      const value = readValue(text, field);
      if (isSame(value, record[field.name], field)) continue;
      const address = addressOf(column, record["row"]);
      changes.push({ key: String(record["id"]), field: field.name, value, address });
    }
  }
  return {
    changes,
    rowsBeyond: Math.max(0, at.row + block.length - rows.length),
    columnsBeyond: Math.max(0, at.column + widest - columns.length),
  };
}

/** A text as a value of the field; one that is none is left for the rules to refuse. */
function readValue(text: string | null, { type }: ShapeField): unknown {
  const trimmed = (text ?? "").replaceAll(/[\s\u00a0\u202f]/g, (blank) => (type === "text" ? blank : ""));
  if (type === "text") return text ?? "";
  if (trimmed === "") return null;
  return /^-?\d{1,3}(?:,\d{3})+(?:\.\d+)?$/.test(trimmed) ? trimmed.replaceAll(",", "") : trimmed;
}

function isSame(value: unknown, stored: unknown, { type }: ShapeField): boolean {
  if (type === "decimal" && value !== null && stored !== null) return Number(value) === Number(stored);
  return (value ?? "") === (stored ?? "");
}
