import type { Row, Source } from "../conditions/source.js";
import { PortierError, type Problem } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import { problem } from "../schema/report.js";
import { findTable, type Table } from "../schema/schema.js";
import type { Portier } from "../session/portier.js";
import { readCsv } from "./csv.js";
import { locateInList } from "./json-places.js";
import { parsePlaced } from "./parse-document.js";

/** One table's records as text: a JSON list of objects, or CSV whose first line names the fields. */
export interface DataFile {
  /** The table whose records it holds. */
  readonly table: string;
  /** Its name, for messages; one that ends with `.csv` is CSV. */
  readonly file: string;
  /** What stands in it. */
  readonly text: string;
}

/** Records that fit the document, and a source over them. */
export interface Data {
  /** By table, its records; a table without a file is not in it. */
  readonly tables: ReadonlyMap<string, readonly Row[]>;
  /** The same records for conditions to read. */
  readonly source: Source;
}

/**
 * The records in a file of who holds what, such as `jsonFileStore` keeps, for {@link readData}.
 *
 * @throws PortierError (`not-json`, `wrong-shape`) for another file.
 */
export function readRoles({ file, text }: Omit<DataFile, "table">): DataFile[] {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch (error) {
    const why = error instanceof Error ? error.message : String(error);
    throw new PortierError([{ ...problem("not-json", { why }), file }]);
  }
  const { assignments, delegations, protections = [] } = isMapping(value) ? value : {};
  if (!Array.isArray(assignments) || !Array.isArray(delegations)) {
    const expected = '{ "version": 0, "assignments": [], "delegations": [] }';
    throw new PortierError([{ ...problem("wrong-shape", { what: "who holds what", expected, found: value }), file }]);
  }
  return [
    { table: "portier_assignments", file, text: JSON.stringify(assignments) },
    { table: "portier_delegations", file, text: JSON.stringify(delegations) },
    ...(Array.isArray(protections) && protections.length === 0
      ? []
      : [{ table: "portier_protections", file, text: JSON.stringify(protections) }]),
  ];
}

/**
 * Reads records and checks them against the declared fields. Stricter than a session, which must live with what a
 * database holds: a file that does not fit is refused as a whole. Fields that a record leaves out become null.
 *
 * @throws PortierError with every problem of every file, each with its line and column.
 */
export function readData(portier: Portier, files: readonly DataFile[]): Data {
  const problems: Problem[] = [];
  const tables = new Map<string, readonly Row[]>();
  for (const file of files) {
    const table = findTable(portier.schema, file.table);
    if (table === undefined) {
      const facts = { name: file.table, candidates: portier.schema.tables.keys() };
      problems.push({ ...problem("unknown-table", facts), file: file.file });
      continue;
    }
    const { rows, found } = isCsv(file) ? readCsvRows(table, file) : readJsonRows(table, file);
    if (found.length === 0) tables.set(table.name, rows);
    else problems.push(...found);
  }
  if (problems.length > 0) throw new PortierError(problems);
  // These are all records there are: where none of them says that a cell is protected, none is.
  const { protections } = portier.schema.kept ?? {};
  if (protections !== undefined && !tables.has(protections.name)) tables.set(protections.name, []);
  return { tables, source: portier.source(Object.fromEntries(tables)) };
}

function isCsv({ file }: DataFile): boolean {
  return /\.csv$/i.test(file);
}

interface ReadRows {
  readonly rows: readonly Row[];
  /** With their places. */
  readonly found: readonly Problem[];
}

function readCsvRows(table: Table, { file, text }: DataFile): ReadRows {
  const { records, lines, problems } = readCsv(table, text);
  const found: Problem[] = [];
  const rows = checkRows(table, records, found);
  // A name in the first line is wrong once, and not in each record.
  const isFirst = (one: Problem, index: number) =>
    one.code !== "unknown-field" || found.findIndex((other) => other.message === one.message) === index;
  const placed = found.filter(isFirst).map((one) => ({
    ...one,
    line: one.code === "unknown-field" ? 1 : (lines[Number(one.path[0])] ?? 1),
  }));
  return { rows, found: [...problems, ...placed].map((one) => ({ ...one, file })) };
}

function readJsonRows(table: Table, file: DataFile): ReadRows {
  const problems: Problem[] = [];
  let value: unknown;
  try {
    value = JSON.parse(file.text);
  } catch (error) {
    const found = problem("not-json", { why: error instanceof Error ? error.message : String(error) });
    return { rows: [], found: [{ ...found, ...placeOfFault(file) }] };
  }
  if (!Array.isArray(value)) {
    const facts = { what: `the data of "${table.name}"`, expected: "a list of records", found: value };
    return { rows: [], found: [{ ...problem("wrong-shape", facts), ...parsePlaced(file.text, file).locate([]) }] };
  }
  const rows = checkRows(table, value, problems);
  return { rows, found: problems.length === 0 ? [] : locateAll(file, problems) };
}

/** After so many, a file is not read on: something is wrong with all of it. */
const mostProblems = 1_000;

function checkRows(table: Table, records: readonly unknown[], problems: Problem[]): Row[] {
  const keys = new Set<string>();
  const rows: Row[] = [];
  for (const [index, record] of records.entries()) {
    rows.push(readRow(table, record, index, keys, problems));
    if (problems.length < mostProblems) continue;
    problems.push(problem("more-problems", { limit: mostProblems }, [index]));
    break;
  }
  return rows;
}

function readRow(table: Table, record: unknown, index: number, keys: Set<string>, problems: Problem[]): Row {
  const row: Record<string, unknown> = {};
  if (!isMapping(record)) {
    const facts = { what: `a record of "${table.name}"`, expected: "an object", found: record };
    problems.push(problem("wrong-shape", facts, [index]));
    return row;
  }
  for (const name of Object.keys(record)) {
    if (table.byName.has(name)) continue;
    const facts = { table: table.name, name, candidates: table.byName.keys() };
    problems.push(problem("unknown-field", facts, [index, name]));
  }
  for (const field of table.fields) {
    const value = Object.hasOwn(record, field.name) ? record[field.name] : null;
    row[field.name] = value;
    if (value === null || field.type.canonical(value) !== undefined) continue;
    const facts = { field: field.name, expects: field.type.expects, found: value };
    problems.push(problem("bad-value", facts, [index, field.name]));
  }
  const lacking = table.key.find((field) => row[field.name] === null);
  if (lacking !== undefined) {
    problems.push(problem("missing-record-key", { table: table.name, field: lacking.name }, [index]));
    return row;
  }
  const key = recordKey(table, row);
  if (keys.has(key)) problems.push(problem("duplicate-record", { table: table.name, key }, [index]));
  keys.add(key);
  return row;
}

/** A record's address: its key; for a key of several fields the values in order, joined by `/`, with `/` and `%` encoded. */
export function recordKey(table: Table, row: Row): string {
  const values = table.key.map((field) => String(field.type.canonical(row[field.name]) ?? ""));
  if (values.length === 1) return values[0] ?? "";
  return values.map((value) => value.replaceAll("%", "%25").replaceAll("/", "%2F")).join("/");
}

/** Places are looked up only when there is something to say, as that reads the file a second time. */
function locateAll({ file, text }: DataFile, problems: readonly Problem[]): Problem[] {
  const locate = locateInList(text, file);
  return problems.map((one) => ({ ...one, ...locate(one.path) }));
}

/** Where a text stops being JSON, as a reader of YAML finds it, which JSON is. */
function placeOfFault({ file, text }: DataFile): Pick<Problem, "file" | "line" | "column"> {
  try {
    parsePlaced(text, { file });
    return { file };
  } catch (error) {
    if (!(error instanceof PortierError)) throw error;
    const [{ line, column } = {}] = error.problems;
    return { file, ...(line === undefined ? {} : { line }), ...(column === undefined ? {} : { column }) };
  }
}
