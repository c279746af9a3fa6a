import type { UserDatabase } from "../database/user-database.js";
import type { Schema, Table } from "../schema/schema.js";
import { knownTable } from "../session/known-table.js";
import type { Session } from "../session/session.js";
import type { HttpLimits, HttpOptions } from "./options.js";
import { notFound } from "./problem.js";

/** What a route is answered with. */
export interface Call {
  readonly request: Request;
  readonly url: URL;
  /** The parts of the path that the route names, decoded: `{ table: "objects", key: "BM-SH-0001" }`. */
  readonly parts: Readonly<Record<string, string>>;
  /** The database as the current user sees and changes it. */
  readonly database: UserDatabase;
  readonly schema: Schema;
  readonly limits: HttpLimits;
  readonly options: Pick<HttpOptions, "actions" | "base" | "description">;
}

/** The table of the path; one that is not served is none. */
export function tableOf({ schema, parts }: Call): Table {
  const table = schema.tables.get(parts["table"] ?? "");
  if (table === undefined) throw notFound();
  return table;
}

/** Whether a table exists for a person: one that they can neither see nor make records of does not. */
export function isKnown(session: Session, { name }: Table): boolean {
  return (["list", "view", "create", "import"] as const).some((action) => session.reach(action, name) !== "none");
}

/** The table as the person can know of it. Ends as for a table that is not there, where it does not exist for them. */
export function knownTo(session: Session, table: Table): Table {
  const known = isKnown(session, table) ? knownTable(session, table) : undefined;
  if (known === undefined) throw notFound();
  return known;
}

/** As {@link knownTo}, for what is not asked of a session otherwise. */
export function mustKnow({ database }: Call, table: Table): Promise<Table> {
  return database.ask((session) => knownTo(session, table));
}

/** What is shown is one person's view, as of now: nobody between may keep it. */
export const ofOnePerson = "private, no-cache";

export function json(body: unknown, headers: Readonly<Record<string, string>> = {}, status = 200): Response {
  return new Response(JSON.stringify(body), {
    status,
    headers: { "content-type": "application/json", "cache-control": ofOnePerson, ...headers },
  });
}
