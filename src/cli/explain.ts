import type { Row } from "../conditions/source.js";
import { Records } from "../database/records.js";
import { recordKey } from "../document/data.js";
import { type Explanation, explain } from "../explain/explain.js";
import { explanationText } from "../explain/text.js";
import { actionNamesOf, actionOf } from "../rules/actions.js";
import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Table } from "../schema/schema.js";
import type { Viewer } from "../verify/viewers.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { databaseRecord, databaseViewer } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import {
  dataFolder,
  findViewer,
  loadData,
  loadDocument,
  rolesFile,
  type SessionFlags,
  sessionOptions,
} from "./load.js";
import { tableName } from "./matrix.js";
import { palette } from "./paint.js";

interface ExplainOptions extends SessionFlags {
  readonly as?: string;
  readonly data?: string;
  readonly format: "text" | "json";
}

export const explainCommand: CliCommand<ExplainOptions> = {
  usage: "explain <file> <action> <table> [key] [field]",
  summary: "Explain a decision: the answer, why, and what would allow it",
  declare: (command) => {
    command
      .option("--as <person>", "the current user: the key of a person, or visitor (the default)")
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv, or ${databaseAddresses} (default: the folder data beside FILE)`,
      );
  },
  run: (args, options, io) => runExplain(args, options, io),
};

function runExplain(
  args: readonly (string | undefined)[],
  options: ExplainOptions,
  io: Io,
): ExitCode | Promise<ExitCode> {
  const [file = "", action = "", name = "", key, field] = args;
  const { portier } = loadDocument(file);
  const table = portier.schema.tables.get(tableName(portier, name)) as Table;
  if (actionOf(table, action) === undefined) {
    const facts = { table: table.name, name: action, candidates: actionNamesOf(table) };
    throw new PortierError([problem("unknown-action", facts)]);
  }
  if (field !== undefined && !table.byName.has(field)) {
    const facts = { table: table.name, name: field, candidates: table.byName.keys() };
    throw new PortierError([problem("unknown-field", facts)]);
  }
  const explained = ({ session }: Viewer, record: Row | undefined) =>
    explain(session, { action, table: table.name, record, field });
  const printed = (viewer: Viewer, explanation: Explanation): ExitCode => {
    if (options.format === "json") {
      io.out(`${JSON.stringify({ viewer: viewer.id, key, ...explanation }, null, 2)}\n`);
      return 0;
    }
    const person = viewer.kind === "visitor" ? "a visitor" : viewer.name;
    const what = `${table.name}${key === undefined ? "" : `/${key}`}`;
    io.out(toned(explanationText(explanation, person, what), io));
    return 0;
  };
  const named = dataFolder(file, options.data);
  if (named === undefined) throw new CliError("explain needs records: name their folder or database with --data");
  if (isDatabase(named)) {
    const shared = sessionOptions(portier, options, undefined, io);
    return withDatabase(named, async ({ connection }) => {
      const source = new Records(connection, portier.schema);
      const viewer = await databaseViewer(portier, connection, options.as, shared, source);
      const record = key === undefined ? undefined : await databaseRecord(connection, table, key);
      return printed(viewer, await source.read(() => explained(viewer, record)));
    });
  }
  const data = loadData(portier, named, rolesFile(file));
  const viewer = findViewer(portier, data, options.as, sessionOptions(portier, options, data.source, io));
  const record = key === undefined ? undefined : findRecord(table, data.tables.get(table.name) ?? [], key);
  return printed(viewer, explained(viewer, record));
}

function findRecord(table: Table, rows: readonly Row[], key: string): Row {
  const found = rows.find((row) => recordKey(table, row) === key);
  if (found !== undefined) return found;
  const candidates = rows.map((row) => recordKey(table, row));
  throw new PortierError([problem("unknown-record", { table: table.name, name: key, candidates })]);
}

/** Colours the answer and the headings; the words stay the same. */
function toned(text: string, io: Io): string {
  const paint = palette(io);
  return text
    .split("\n")
    .map((line) => {
      if (line.startsWith("YES ")) return `${paint.yes("YES")}${line.slice(3)}`;
      if (line.startsWith("NO ")) return `${paint.no("NO")}${line.slice(2)}`;
      return line.startsWith(" ") ? line : paint.heading(line);
    })
    .join("\n");
}
