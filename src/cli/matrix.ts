import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Portier } from "../session/portier.js";
import { accessMatrix, countedMatrix, type MatrixCell, type MatrixRow } from "../verify/matrix.js";
import { groupViewers, personViewers, roleViewers, type Viewer } from "../verify/viewers.js";
import { bands, columns, folded } from "./columns.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { countRecords, databaseViewers } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { loadData, loadDocument, rolesFile, type SessionFlags, type SharedOptions, sessionOptions } from "./load.js";
import { palette } from "./paint.js";

interface MatrixOptions extends SessionFlags {
  readonly by?: "people" | "roles" | "groups";
  readonly data?: string;
  readonly table?: string;
  readonly format: "text" | "json";
}

export const matrixCommand: CliCommand = {
  usage: "matrix <file>",
  summary: "people, roles or groups, tables and actions, with the reach all / own / some / none",
  declare: (command) => {
    command
      .option("--by <people|roles|groups>", "who stands in the rows (default: people with --data, else roles)")
      .option("--data <folder or database>", `records as TABLE.json, or ${databaseAddresses}: adds people and counts`)
      .option("--table <name>", "this table only");
  },
  run: ([file = ""], options, io) => runMatrix(file, options as unknown as MatrixOptions, io),
};

function runMatrix(file: string, options: MatrixOptions, io: Io): ExitCode | Promise<ExitCode> {
  const { portier } = loadDocument(file);
  const by = options.by ?? (options.data === undefined ? "roles" : "people");
  if (by !== "people" && by !== "roles" && by !== "groups") {
    throw new CliError(`--by takes people, roles or groups, not "${by}"`);
  }
  const tables = options.table === undefined ? [...portier.schema.tables.keys()] : [tableName(portier, options.table)];
  if (options.data !== undefined && isDatabase(options.data)) {
    return withDatabase(options.data, async ({ connection }) => {
      const shared = sessionOptions(portier, options, undefined, io);
      const viewers =
        by === "people" ? await databaseViewers(portier, connection, shared) : namedViewers(portier, by, shared);
      const counted = viewers.filter(({ kind }) => kind === "person" || kind === "visitor");
      const count = await countRecords(portier, connection, counted, tables);
      return printed(countedMatrix(portier, viewers, count, tables), options, io);
    });
  }
  const data = options.data === undefined ? undefined : loadData(portier, options.data, rolesFile(file));
  const shared = sessionOptions(portier, options, data?.source, io);
  const viewers = by === "people" ? peopleViewers(portier, data, shared) : namedViewers(portier, by, shared);
  return printed(accessMatrix(portier, viewers, data?.tables, tables), options, io);
}

function namedViewers(portier: Portier, by: "roles" | "groups", shared: SharedOptions): Viewer[] {
  return by === "roles" ? roleViewers(portier, shared) : groupViewers(portier, shared);
}

function printed(rows: readonly MatrixRow[], { format }: MatrixOptions, io: Io): ExitCode {
  if (format === "json") io.out(`${JSON.stringify({ matrix: rows.map(jsonRow) }, null, 2)}\n`);
  else printMatrix(rows, io);
  return 0;
}

function peopleViewers(
  portier: Portier,
  data: ReturnType<typeof loadData> | undefined,
  shared: SharedOptions,
): Viewer[] {
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

function jsonRow({ viewer, table, cells }: MatrixRow) {
  const { kind, id, name, roles } = viewer;
  return { viewer: { kind, id, name, roles }, table, actions: Object.fromEntries(cells) };
}

/** A block for each table; viewers with the same cells share a line. Blocks stand under each other column by column. */
function printMatrix(rows: readonly MatrixRow[], io: Io): void {
  const paint = palette(io);
  const tables = [...new Set(rows.map(({ table }) => table))];
  const widths = actionWidths(rows);
  for (const table of tables) {
    const own = rows.filter((row) => row.table === table);
    const actions = [...(own[0]?.cells.keys() ?? [])];
    const cellWidths = actions.map((action) => widths.get(action) ?? action.length);
    const room = io.width - cellWidths.reduce((sum, size) => sum + size + 2, 2);
    const nameWidth = Math.max(22, Math.min(60, room));
    const lines = new Map<string, { cells: MatrixRow["cells"]; names: string[] }>();
    for (const { viewer, cells } of own) {
      const look = actions.map((action) => cellText(cells.get(action))).join("|");
      const line = lines.get(look) ?? { cells, names: [] };
      line.names.push(viewer.kind === "person" ? viewer.name : viewer.id);
      lines.set(look, line);
    }
    const body = [...lines.values()].flatMap(({ cells, names }) => {
      const [first = "", ...more] = wrapNames(names, nameWidth);
      const marks = actions.map((action) => paintedCell(cells.get(action), paint));
      return [[first, ...marks], ...more.map((name) => [name, ...actions.map(() => "")])];
    });
    const headings = [paint.heading(table), ...actions.map((name) => paint.quiet(name))];
    const fits = room >= nameWidth;
    const printed = fits
      ? columns(headings, body, io.width, [nameWidth, ...cellWidths])
      : bands(headings, body, io.width, 1);
    io.out(`${printed}\n`);
  }
  const legend = ["all: every record", "some: it depends on the record", "own: only through ownership", "-: none"];
  io.out(`${paint.quiet(folded(legend, io.width))}\n`);
}

/** How wide an action's column is in every table. */
function actionWidths(rows: readonly MatrixRow[]): Map<string, number> {
  const widths = new Map<string, number>();
  for (const [action, cell] of rows.flatMap(({ cells }) => [...cells])) {
    widths.set(action, Math.max(widths.get(action) ?? 6, action.length, cellText(cell).length));
  }
  return widths;
}

function paintedCell(cell: MatrixCell | undefined, paint: ReturnType<typeof palette>): string {
  return cell === undefined ? "" : paint.reach(cell.reach, cellText(cell));
}

function cellText(cell: MatrixCell | undefined): string {
  if (cell === undefined || cell.reach === "none") return "-";
  return cell.count === undefined ? cell.reach : `${cell.reach} ${cell.count}`;
}

function wrapNames(names: readonly string[], width: number): string[] {
  const lines: string[] = [];
  for (const name of names) {
    const last = lines[lines.length - 1];
    if (last !== undefined && last.length + name.length + 2 <= width) lines[lines.length - 1] = `${last}, ${name}`;
    else lines.push(name);
  }
  return lines.map((line, index) => (index < lines.length - 1 ? `${line},` : line));
}
