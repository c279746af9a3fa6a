import Papa from "papaparse";
import type { Problem } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Field, Table } from "../schema/schema.js";

/** The records of a CSV file as JSON would have them, and the line on which each begins, from 1. */
export interface CsvRecords {
  readonly records: readonly Readonly<Record<string, unknown>>[];
  readonly lines: readonly number[];
  /** What is wrong with the file as such, with its line. */
  readonly problems: readonly Problem[];
}

/**
 * Reads a CSV file (RFC 4180) whose first line names fields. An empty cell is null; other cells are read as their field's
 * type has them: numbers, `true` and `false`, lists and JSON as JSON. The apostrophe that keeps a text from being a formula in
 * a spreadsheet is taken off. What does not fit its field stays a text, for the caller to refuse.
 */
export function readCsv(table: Table, text: string): CsvRecords {
  const rows: string[][] = [];
  const starts: number[] = [];
  const problems: Problem[] = [];
  let start = 0;
  let line = 1;
  Papa.parse<string[]>(text, {
    delimiter: ",",
    step: ({ data, errors, meta }) => {
      for (const { message } of errors) problems.push({ ...problem("not-csv", { why: message }), line });
      // A line that is empty is not a record.
      if (data.length > 1 || data[0] !== "") {
        rows.push(data);
        starts.push(line);
      }
      line += text.slice(start, meta.cursor).split("\n").length - 1;
      start = meta.cursor;
    },
  });
  const [names = [], ...cells] = rows;
  for (const [index, row] of cells.entries()) {
    if (row.length === names.length) continue;
    const facts = { why: `${row.length} cells under ${names.length} names` };
    problems.push({ ...problem("not-csv", facts), line: starts[index + 1] ?? 1 });
  }
  const fields = names.map((name) => table.byName.get(name));
  const records = cells.map((row) =>
    Object.fromEntries(names.map((name, column) => [name, readCell(row[column] ?? "", fields[column])])),
  );
  return { records, lines: starts.slice(1), problems };
}

function readCell(cell: string, field: Field | undefined): unknown {
  if (cell === "") return null;
  const text = cell.replace(/^'(?=[=+\-@\t\r])/, "");
  if (field === undefined) return text;
  const candidates = field.type.name === "json" ? [parsed(text), text] : [text, ...plainly(text)];
  return candidates.find((one) => one !== undefined && field.type.canonical(one) !== undefined) ?? text;
}

/** What a text may mean where it is not a text. */
function plainly(text: string): unknown[] {
  if (text === "true" || text === "false") return [text === "true"];
  return /^-?\d+$/.test(text) ? [Number(text)] : [parsed(text)];
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}
