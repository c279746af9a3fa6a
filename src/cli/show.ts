import type { Row } from "../conditions/source.js";
import { recordKey } from "../document/data.js";
import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Field, Table } from "../schema/schema.js";
import { type CellView, recordView } from "../verify/view.js";
import type { Viewer } from "../verify/viewers.js";
import { bands, folded } from "./columns.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { databaseView, type Line, type Seen } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import {
  dataFolder,
  findViewer,
  loadData,
  loadDocument,
  rolesFile,
  type SessionFlags,
  sessionOptions,
  viewerTitle,
} from "./load.js";
import { tableName } from "./matrix.js";
import { palette } from "./paint.js";

interface ShowOptions extends SessionFlags {
  readonly as?: string;
  readonly compare?: string;
  readonly data?: string;
  readonly fields?: string;
  readonly limit: string;
  readonly format: "text" | "json";
}

export const showCommand: CliCommand<ShowOptions> = {
  usage: "show <file> <table>",
  summary: "Print a table as one or two people see it, with hidden and editable cells marked",
  declare: (command) => {
    command
      .option("--as <person>", "the current user: the key of a person, or visitor (the default)")
      .option("--compare <person>", "a second person; differences are marked")
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv, or ${databaseAddresses} (default: the folder data beside FILE)`,
      )
      .option("--fields <names>", "only these fields, separated by commas")
      .option("--limit <n>", "the greatest number of records; 0 for all", "20");
  },
  run: ([file = "", table = ""], options, io) => runShow(file, table, options, io),
};

function runShow(file: string, name: string, options: ShowOptions, io: Io): ExitCode | Promise<ExitCode> {
  const { portier } = loadDocument(file);
  const table = portier.schema.tables.get(tableName(portier, name)) as Table;
  const fields = chooseFields(table, options.fields);
  const limit = Number(options.limit);
  if (!Number.isInteger(limit) || limit < 0) throw new CliError(`--limit takes a whole number, not "${options.limit}"`);
  const ids = options.compare === undefined ? [options.as] : [options.as, options.compare];
  const printed = (seen: Seen): ExitCode => {
    const { viewers, lines, existing, found, total } = seen;
    if (options.format === "json") io.out(`${JSON.stringify(jsonView(table, viewers, fields, lines), null, 2)}\n`);
    else printView(table, viewers, fields, lines, io);
    for (const [index, viewer] of viewers.entries()) {
      io.err(`${viewer.id}: ${existing[index]} of ${total} records exist\n`);
    }
    if (lines.length < found) io.err(`${lines.length} of ${found} are shown; --limit 0 shows all\n`);
    return 0;
  };
  const named = dataFolder(file, options.data);
  if (named === undefined) throw new CliError("show needs records: name their folder or database with --data");
  if (isDatabase(named)) {
    const shared = sessionOptions(portier, options, undefined, io);
    return withDatabase(named, async ({ connection }) =>
      printed(await databaseView(portier, connection, table, ids, limit, shared)),
    );
  }
  const data = loadData(portier, named, rolesFile(file));
  const shared = sessionOptions(portier, options, data.source, io);
  const viewers = ids.map((id) => findViewer(portier, data, id, shared));
  return printed(viewOf(viewers, table, data.tables.get(table.name) ?? [], limit));
}

/** Records at hand, seen through each viewer. */
function viewOf(viewers: readonly Viewer[], table: Table, rows: readonly Row[], limit: number): Seen {
  const lines = rows
    .map((row): Line => ({ row, views: viewers.map(({ session }) => recordView(session, table, row)) }))
    .filter(({ views }) => views.some((view) => view !== undefined));
  const existing = viewers.map((_, index) => lines.filter(({ views }) => views[index] !== undefined).length);
  const shown = limit === 0 ? lines : lines.slice(0, limit);
  return { viewers, lines: shown, found: lines.length, existing, total: rows.length };
}

function chooseFields(table: Table, names: string | undefined): readonly Field[] {
  if (names === undefined) return table.fields;
  return names.split(",").map((part) => {
    const name = part.trim();
    const field = table.byName.get(name);
    if (field !== undefined) return field;
    throw new PortierError([problem("unknown-field", { table: table.name, name, candidates: table.byName.keys() })]);
  });
}

const hiddenMark = "▒▒▒";
const absentMark = "(no such record)";
const editMark = "✎";
const confirmMark = "✎?";
const differenceMark = "≠";

function printView(
  table: Table,
  viewers: readonly Viewer[],
  fields: readonly Field[],
  lines: readonly Line[],
  io: Io,
): void {
  const paint = palette(io);
  const two = viewers.length > 1;
  const [first = "", ...compared] = viewers.map(viewerTitle);
  const title = [`${paint.heading(table.name)} as ${first}`, ...compared.map((one) => `compared with ${one}`)];
  io.out(`${folded(title, io.width)}\n\n`);
  if (lines.length === 0) io.out("No record exists here.\n");
  const isKeyAlone = (field: Field) => table.key.length === 1 && table.key[0] === field;
  const others = fields.filter((field) => !isKeyAlone(field));
  const body = lines.flatMap(({ row, views }) =>
    views.map((view, index) => {
      const lead = [index === 0 ? recordKey(table, row) : "", ...(two ? [viewers[index]?.id ?? ""] : [])];
      if (view === undefined) return [...lead, ...others.map((_, at) => (at === 0 ? paint.quiet(absentMark) : ""))];
      const first = index === 0 ? undefined : views[0];
      return [...lead, ...others.map(({ index: at }) => cellText(view.cells[at] as CellView, first?.cells[at], paint))];
    }),
  );
  const keyName = table.key.map(({ name }) => name).join("/");
  const headings = [keyName, ...(two ? ["seen by"] : []), ...others.map(({ name }) => name)];
  if (body.length > 0) io.out(bands(headings.map(paint.quiet), body, io.width, two ? 2 : 1));
  const legend = [`${hiddenMark} hidden`, `${editMark} may be edited`, "- no value"];
  if (lines.some(({ views }) => views.some((view) => view?.cells.some(({ confirm }) => confirm)))) {
    legend.splice(2, 0, `${confirmMark} after a confirmation`);
  }
  if (two) legend.push(`${differenceMark} differs from ${viewers[0]?.id}`);
  io.out(`\n${paint.quiet(folded(legend, io.width))}\n`);
}

/** The marks come first, so that they stay when a narrow column cuts the text. */
function cellText(cell: CellView, other: CellView | undefined, paint: ReturnType<typeof palette>): string {
  const differs = other !== undefined && marksOf(other) !== marksOf(cell);
  const text = cell.seen ? (cell.value === null ? "-" : shownValue(cell.value)) : paint.quiet(hiddenMark);
  const marks = (differs ? differenceMark : "") + (cell.confirm ? confirmMark : cell.editable ? editMark : "");
  return marks === "" ? text : `${paint.editable(marks)} ${text}`;
}

/** What one person's cell has in common with another's, or not. */
function marksOf({ seen, editable, confirm }: CellView): string {
  return `${seen} ${editable} ${confirm}`;
}

/** Lists and opaque values as JSON, the rest as it is. */
function shownValue(value: unknown): string {
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

function jsonView(table: Table, viewers: readonly Viewer[], fields: readonly Field[], lines: readonly Line[]) {
  const wanted = new Set(fields.map(({ name }) => name));
  return {
    table: table.name,
    viewers: viewers.map(({ kind, id, name, roles }) => ({ kind, id, name, roles })),
    records: lines.map(({ row, views }) => ({
      key: recordKey(table, row),
      views: views.map((view) =>
        view === undefined
          ? null
          : { deletable: view.deletable, cells: view.cells.filter((cell) => wanted.has(cell.field)) },
      ),
    })),
  };
}
