import { existsSync, readdirSync, readFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import type { Row, Source } from "../conditions/source.js";
import { type Data, type DataFile, readData, readRoles } from "../document/data.js";
import { type ParsedDocument, parseDocument } from "../document/parse-document.js";
import { instantOf } from "../schema/instant.js";
import { PortierError, type Problem } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import { singleKey } from "../schema/schema.js";
import { compile, type Portier } from "../session/portier.js";
import type { Diagnostic } from "../session/session-options.js";
import { personViewer, type Viewer, visitorViewer } from "../verify/viewers.js";
import { CliError, type Io } from "./io.js";

/** A document from a file, compiled. */
export interface Loaded {
  readonly portier: Portier;
  readonly parsed: ParsedDocument;
}

export function loadDocument(file: string): Loaded {
  const parsed = parseDocument(readText(file), { file: file === "-" ? "stdin" : file });
  return { parsed, portier: compile(parsed.document, { locate: parsed.locate }) };
}

function readText(file: string): string {
  try {
    return readFileSync(file === "-" ? 0 : file, "utf8");
  } catch (error) {
    throw new PortierError([missing(file, error)]);
  }
}

function missing(file: string, error: unknown): Problem {
  const code = (error as { code?: string }).code;
  const reasons: Readonly<Record<string, string>> = {
    ENOENT: "there is no such file",
    EISDIR: "it is a folder",
    ENOTDIR: "it is not a folder",
    EACCES: "it may not be read",
  };
  return problem("file-missing", { file, why: reasons[code ?? ""] ?? String(error) });
}

/** The folder with the records: the one that was named, or `data` beside the document. */
export function dataFolder(file: string, named: string | undefined): string | undefined {
  if (named !== undefined) return named;
  const beside = join(dirname(file), "data");
  return existsSync(beside) ? beside : undefined;
}

/** The file beside a document in which it is kept who holds what: `museum.roles.json` for `museum.portier.yaml`. */
export function rolesFile(file: string): string {
  return join(dirname(file), `${documentName(file)}.roles.json`);
}

/** What files beside a document begin with: `museum` for `rules/museum.portier.yaml`. */
export function documentName(file: string): string {
  return basename(file).replace(/(?:\.portier)?\.(?:ya?ml|json)$/, "");
}

/** Reads every `TABLE.json` and `TABLE.csv` of a folder, and where roles are assigned who holds what. */
export function loadData(portier: Portier, folder: string, roles: string): Data {
  const files = dataFiles(folder);
  if (files.length === 0) throw new CliError(`${folder} holds no TABLE.json or TABLE.csv file`);
  const isKept = portier.schema.kept !== undefined && existsSync(roles);
  return readData(portier, [...files, ...(isKept ? readRoles({ file: roles, text: readText(roles) }) : [])]);
}

/** The files of records in a folder, one for each table. */
export function dataFiles(folder: string): DataFile[] {
  let names: string[];
  try {
    names = readdirSync(folder).filter((name) => /\.(?:json|csv)$/.test(name));
  } catch (error) {
    throw new PortierError([missing(folder, error)]);
  }
  const tables = new Map<string, string>();
  for (const name of names) {
    const table = name.replace(/\.(?:json|csv)$/, "");
    const other = tables.get(table);
    if (other !== undefined) throw new CliError(`${folder} holds ${other} and ${name}: one of them must go`);
    tables.set(table, name);
  }
  return [...tables].map(([table, name]) => ({ table, file: join(folder, name), text: readText(join(folder, name)) }));
}

/** Options that say how sessions are opened. */
export interface SessionFlags {
  readonly at?: string;
  readonly request?: readonly string[];
}

/** The values of `--request NAME=VALUE`. */
export function requestValues({ request = [] }: SessionFlags): Record<string, string> {
  const pairs = request.map((pair) => {
    const [name = "", ...value] = pair.split("=");
    if (value.length === 0) throw new CliError(`--request takes NAME=VALUE, not "${pair}"`);
    return [name, value.join("=")] as const;
  });
  return Object.fromEntries(pairs);
}

/** What every session of one command shares. Faults and bad data are remarks, each said once. */
export function sessionOptions({ schema }: Portier, flags: SessionFlags, source: Source | undefined, io: Io) {
  const request: Record<string, unknown> = requestValues(flags);
  const now = instantOf(schema, "at", flags.at);
  if (now !== null) request["now"] = now;
  const said = new Set<string>();
  const onDiagnostic = ({ kind, message }: Diagnostic) => {
    if (said.has(message)) return;
    said.add(message);
    io.err(`${kind}: ${message}\n`);
  };
  return { request, onDiagnostic, ...(source === undefined ? {} : { source }) };
}

export type SharedOptions = ReturnType<typeof sessionOptions>;

/** The word that stands for somebody who is not signed in. */
export const visitorWord = "visitor";

/** Finds a person by key and opens their view; `visitor` or nothing is an anonymous visitor. */
export function findViewer(
  portier: Portier,
  data: Pick<Data, "tables">,
  id: string | undefined,
  options: SharedOptions,
): Viewer {
  const people = portier.schema.people;
  const rows: readonly Row[] = (people && data.tables.get(people.table.name)) ?? [];
  const key = people && singleKey(people.table);
  const person = key && rows.find((row) => String(row[key.name]) === id);
  if (person !== undefined) return personViewer(portier, person, options);
  if (id === undefined || id === visitorWord) return visitorViewer(portier, options);
  const candidates = [visitorWord, ...(key === undefined ? [] : rows.map((row) => String(row[key.name])))];
  throw new PortierError([problem("unknown-person", { name: id, candidates })]);
}

/** How a viewer is called in a heading: `s-003 Odalys Quint (keeper)`. */
export function viewerTitle({ kind, id, name, roles }: Viewer): string {
  if (kind !== "person") return kind === "visitor" ? `${id} (${name})` : name;
  return `${id} ${name} (${roles.length === 0 ? "no role" : roles.join(", ")})`;
}
