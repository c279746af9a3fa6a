import { compile, type DocumentInput, type Locate, type Portier, PortierError, type Row } from "portier";
import { type Data, parseDocument, readData } from "portier/document";
import { readInstant } from "portier/tooling";
import { personViewer, type Viewer, visitorViewer } from "portier/verify";
import type { ProjectState } from "./protocol.js";

/** A document as a text, compiled, with the records under it and everybody's session. */
export interface Standing {
  readonly text: string;
  readonly document: DocumentInput;
  readonly locate: Locate;
  readonly portier: Portier;
  /** The records; without any where they do not fit the document. */
  readonly data: Data;
  /** Why there are no records. */
  readonly trouble: string | undefined;
  /** The visitor, then everybody. */
  readonly viewers: readonly Viewer[];
  /** What sessions are opened with. */
  readonly request: Readonly<Record<string, unknown>>;
}

/**
 * Makes everything that questions are asked of. Records that were read under a document with the same tables are taken as
 * they are.
 *
 * @throws PortierError with what is wrong in the text.
 */
export function standingOf(text: string, project: ProjectState, before?: Standing): Standing {
  const { document, locate } = parseDocument(text, { file: project.document.name });
  const portier = compile(document, { locate });
  const isSameData =
    before?.trouble === undefined && before !== undefined && shapeOf(before.document) === shapeOf(document);
  const { data, trouble } = isSameData
    ? { data: withTables(portier, before.data.tables), trouble: undefined }
    : recordsUnder(portier, project);
  const now = project.at === undefined ? undefined : readInstant(portier.schema, project.at);
  const request = { ...project.request, ...(now === undefined ? {} : { now }) };
  return { text, document, locate, portier, data, trouble, request, viewers: everybody(portier, data, request) };
}

/** What of a document records are read by. */
function shapeOf({ tables, people, timeZone }: DocumentInput): string {
  const plain = Object.entries(tables).map(([name, { rules: _, ...table }]) => [name, table]);
  return JSON.stringify([plain, people, timeZone]);
}

function recordsUnder(portier: Portier, { data }: ProjectState): { data: Data; trouble: string | undefined } {
  const none = withTables(portier, new Map());
  try {
    if (data.kind === "files") return { data: readData(portier, data.files), trouble: undefined };
    if (data.kind === "records") {
      const known = Object.entries(data.tables).filter(([name]) => hasTable(portier, name));
      return { data: withTables(portier, new Map(known)), trouble: undefined };
    }
    return { data: none, trouble: "No records: name a folder or a database with --data." };
  } catch (error) {
    if (!(error instanceof PortierError)) throw error;
    const [first] = error.problems;
    const more = error.problems.length > 1 ? ` And ${error.problems.length - 1} more.` : "";
    const place = first?.file === undefined ? "" : `${first.file}${first.line === undefined ? "" : `:${first.line}`}: `;
    return { data: none, trouble: `The records do not match the rules: ${place}${first?.message}${more}` };
  }
}

function hasTable({ schema }: Portier, name: string): boolean {
  return schema.tables.has(name) || name.startsWith("portier_");
}

function withTables(portier: Portier, tables: ReadonlyMap<string, readonly Row[]>): Data {
  const known = [...tables].filter(([name]) => hasTable(portier, name));
  return { tables: new Map(known), source: portier.source(Object.fromEntries(known)) };
}

/** Everybody for whom a session opens: bad data of one does not keep the others from being looked at. */
function everybody(portier: Portier, { tables, source }: Data, request: Readonly<Record<string, unknown>>): Viewer[] {
  const { people } = portier.schema;
  const options = { source, request };
  const rows = (people && tables.get(people.table.name)) ?? [];
  const persons = rows.flatMap((row) => {
    try {
      return [personViewer(portier, row, options)];
    } catch (error) {
      if (error instanceof PortierError) return [];
      throw error;
    }
  });
  return [visitorViewer(portier, options), ...persons];
}
