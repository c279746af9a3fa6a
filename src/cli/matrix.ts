import type { Data } from "../document/data.js";
import { matrixCsv, matrixMarkdown, matrixPage } from "../report/matrix-files.js";
import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Portier } from "../session/portier.js";
import { accessMatrix, countedMatrix, type MatrixRow } from "../verify/matrix.js";
import { type CompareCell, compareWith } from "../verify/matrix-differences.js";
import { groupViewers, personViewers, roleViewers, type Viewer } from "../verify/viewers.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { countRecords, databaseViewers } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { loadDocument, type SessionFlags, type SharedOptions, sessionOptions } from "./load.js";
import { printMatrix } from "./matrix-text.js";
import { progressOf } from "./progress.js";
import { withRecords } from "./records.js";

interface MatrixOptions extends SessionFlags {
  readonly by?: "people" | "roles" | "groups";
  readonly data?: string;
  readonly table?: string;
  readonly fields?: true;
  readonly compare?: string;
  readonly format: "text" | "json" | "csv" | "markdown" | "html";
}

export const matrixCommand: CliCommand<MatrixOptions> = {
  usage: "matrix <file>",
  summary:
    "Print the access matrix: people, roles or groups by tables and actions, with the reach all / own / some / none",
  formats: ["text", "json", "csv", "markdown", "html"],
  declare: (command) => {
    command
      .option("--by <people|roles|groups>", "what the rows are (default: people with --data, else roles)")
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv, or ${databaseAddresses}: adds people and counts of records`,
      )
      .option("--table <name>", "only this table")
      .option("--fields", "a line for each field, besides the record as a whole")
      .option("--compare <person, role or group>", "mark what others may do more or less than this one");
  },
  run: ([file = ""], options, io) => runMatrix(file, options, io),
};

function runMatrix(file: string, options: MatrixOptions, io: Io): ExitCode | Promise<ExitCode> {
  const { portier } = loadDocument(file);
  const by = options.by ?? (options.data === undefined ? "roles" : "people");
  if (by !== "people" && by !== "roles" && by !== "groups") {
    throw new CliError(`--by takes people, roles or groups, not "${by}"`);
  }
  const tables = options.table === undefined ? [...portier.schema.tables.keys()] : [tableName(portier, options.table)];
  const asked = { tables, fields: options.fields === true, onTable: progressOf(io, "matrix", "tables") };
  // A database counts by itself, but for single fields: for these its records are read.
  if (options.data !== undefined && isDatabase(options.data) && !asked.fields) {
    return withDatabase(options.data, async ({ connection }) => {
      const shared = sessionOptions(portier, options, undefined, io);
      const viewers =
        by === "people" ? await databaseViewers(portier, connection, shared) : namedViewers(portier, by, shared);
      const counted = viewers.filter(({ kind }) => kind === "person" || kind === "visitor");
      const count = await countRecords(portier, connection, counted, tables);
      return printed(countedMatrix(portier, viewers, count, asked), options, io);
    });
  }
  const work = (data: Data | undefined) => {
    const shared = sessionOptions(portier, options, data?.source, io);
    const viewers = by === "people" ? peopleViewers(portier, data, shared) : namedViewers(portier, by, shared);
    const rows = accessMatrix(portier, viewers, { ...(data && { records: data.tables }), ...asked });
    return printed(rows, options, io);
  };
  return options.data === undefined ? work(undefined) : withRecords(portier, file, options.data, work);
}

function namedViewers(portier: Portier, by: "roles" | "groups", shared: SharedOptions): Viewer[] {
  return by === "roles" ? roleViewers(portier, shared) : groupViewers(portier, shared);
}

function printed(rows: readonly MatrixRow[], { format, compare: baseline }: MatrixOptions, io: Io): ExitCode {
  const compare = baseline === undefined ? undefined : comparison(rows, baseline);
  if (format === "json") {
    io.out(`${JSON.stringify({ matrix: rows.map((row) => jsonRow(row, compare)) }, null, 2)}\n`);
  } else if (format === "csv") io.out(matrixCsv(rows, compare));
  else if (format === "markdown") io.out(matrixMarkdown(rows, compare, baseline));
  else if (format === "html") io.out(matrixPage(rows, compare, baseline));
  else printMatrix(rows, compare, baseline, io);
  return 0;
}

function comparison(rows: readonly MatrixRow[], baseline: string): CompareCell {
  const viewers = new Map(rows.map(({ viewer }) => [viewer.id, viewer]));
  if (viewers.has(baseline)) return compareWith(rows, baseline);
  throw new PortierError([problem("unknown-person", { name: baseline, candidates: viewers.keys() })]);
}

function peopleViewers(portier: Portier, data: Data | undefined, shared: SharedOptions): Viewer[] {
  const people = portier.schema.people;
  if (people === undefined) throw new CliError("the document names no people table; use --by roles");
  const rows = data?.tables.get(people.table.name);
  if (data === undefined || rows === undefined) {
    throw new CliError(`--by people needs --data with ${people.table.name}.json`);
  }
  return personViewers(portier, rows, { ...shared, source: data.source });
}

export function tableName(portier: Portier, name: string): string {
  if (portier.schema.tables.has(name)) return name;
  throw new PortierError([problem("unknown-table", { name, candidates: portier.schema.tables.keys() })]);
}

function jsonRow(row: MatrixRow, compare: CompareCell | undefined) {
  const { viewer, table, field, cells } = row;
  const { kind, id, name, roles } = viewer;
  const actions = Object.fromEntries(
    [...cells].map(([action, cell]) => {
      const difference = compare?.(row, action);
      return [action, { ...cell, ...(difference === undefined ? {} : { difference }) }];
    }),
  );
  return { viewer: { kind, id, name, roles }, table, ...(field === undefined ? {} : { field }), actions };
}
