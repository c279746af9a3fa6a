import type { Row } from "../conditions/source.js";
import type { Connection } from "../database/connection.js";
import { Records } from "../database/records.js";
import { hasAddress, selectRecords } from "../database/statements.js";
import type { ActionName } from "../rules/actions.js";
import { knownBy } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Table } from "../schema/schema.js";
import type { Portier } from "../session/portier.js";
import { anyOf, type Fragment, finish, join, raw, sql } from "../sql/fragment.js";
import { sourceName } from "../sql/scope.js";
import { whereFragment } from "../sql/where.js";
import { type CountRecords, matrixActions } from "../verify/matrix.js";
import { type RecordView, recordView } from "../verify/view.js";
import { personViewer, personViewers, type Viewer, visitorViewer } from "../verify/viewers.js";
import { CliError } from "./io.js";
import { type SharedOptions, visitorWord } from "./load.js";

/** How many conditions one statement counts by. */
const countsPerStatement = 100;

/** The people of a database, each with their view, and a visitor's. */
export async function databaseViewers(
  portier: Portier,
  connection: Connection,
  shared: SharedOptions,
): Promise<Viewer[]> {
  const { people } = portier.schema;
  if (people === undefined) throw new CliError("the document names no people table; use --by roles");
  const rows = await selectRecords(connection, people.table, undefined);
  const source = new Records(connection, portier.schema);
  for (const row of rows) source.add(people.table, row);
  // What gives everybody their roles is read at once, and not for each by themselves.
  const keys = rows.flatMap((row) => recordAddress(people.table, row) ?? []);
  for (const given of people.roles) {
    if (given.kind !== "link") continue;
    source.addReferring(given.table, given.person.name, keys, await selectRecords(connection, given.table, undefined));
  }
  return source.read(() => personViewers(portier, rows, { ...shared, source }));
}

/**
 * Counts for a matrix, by the database. Viewers whose conditions are the same share a count, and one statement counts
 * many, so that a table is gone through few times.
 */
export async function countRecords(
  portier: Portier,
  connection: Connection,
  viewers: readonly Viewer[],
  tables: readonly string[],
): Promise<CountRecords> {
  const counted = new Map<string, Map<string, number>>();
  const idOf = (condition: Fragment) => JSON.stringify(condition);
  for (const name of tables) {
    const conditions = new Map<string, Fragment>([[idOf(raw("true")), raw("true")]]);
    for (const { session } of viewers) {
      for (const action of matrixActions(portier, name).filter(isCountable)) {
        const condition = whereFragment(session, name, action, connection.dialect);
        conditions.set(idOf(condition), condition);
      }
    }
    const table = portier.schema.tables.get(name) as Table;
    const asked = [...conditions];
    const counts = new Map<string, number>();
    for (let at = 0; at < asked.length; at += countsPerStatement) {
      const batch = asked.slice(at, at + countsPerStatement);
      const numbers = await countBy(
        connection,
        table,
        batch.map(([, condition]) => condition),
      );
      for (const [index, [id]] of batch.entries()) counts.set(id, numbers[index] ?? 0);
    }
    counted.set(name, counts);
  }
  return ({ session }, action, table) => {
    const counts = counted.get(table);
    if (counts === undefined || !isCountable(action)) return undefined;
    const permitted = counts.get(idOf(whereFragment(session, table, action, connection.dialect))) ?? 0;
    return { permitted, all: counts.get(idOf(raw("true"))) ?? 0 };
  };
}

function isCountable(action: ActionName): boolean {
  return action !== "create" && action !== "import";
}

/** One record through the eyes of each viewer; undefined where it does not exist for them. */
export interface Line {
  readonly row: Row;
  readonly views: readonly (RecordView | undefined)[];
}

/** What of a table exists for some viewers. */
export interface Seen {
  readonly viewers: readonly Viewer[];
  readonly lines: readonly Line[];
  /** How many records exist for any of them, for each of them, and in all. */
  readonly found: number;
  readonly existing: readonly number[];
  readonly total: number;
}

export async function databaseView(
  portier: Portier,
  connection: Connection,
  table: Table,
  ids: readonly (string | undefined)[],
  limit: number,
  shared: SharedOptions,
): Promise<Seen> {
  const source = new Records(connection, portier.schema);
  const viewers: Viewer[] = [];
  for (const id of ids) viewers.push(await databaseViewer(portier, connection, id, shared, source));
  const known = viewers.map(({ session }) =>
    anyOf(knownBy.map((action) => whereFragment(session, table.name, action, connection.dialect))),
  );
  const rows = await selectRecords(connection, table, anyOf(known), { limit });
  const lines = await source.read(() =>
    rows.map((row) => ({ row, views: viewers.map(({ session }) => recordView(session, table, row)) })),
  );
  const [found = 0, total = 0, ...existing] = await countBy(connection, table, [anyOf(known), raw("true"), ...known]);
  return { viewers, lines, found, existing, total };
}

/** One person of a database, or a visitor; `source` is where all that is asked of them is read. */
export async function databaseViewer(
  portier: Portier,
  connection: Connection,
  id: string | undefined,
  shared: SharedOptions,
  source: Records,
): Promise<Viewer> {
  const person = await findPerson(portier, connection, id);
  return source.read(() =>
    person === undefined
      ? visitorViewer(portier, { ...shared, source })
      : personViewer(portier, person, { ...shared, source }),
  );
}

/** The record of a table with a key. */
export async function databaseRecord(connection: Connection, table: Table, key: string): Promise<Row> {
  const condition = hasAddress(connection, table, [key]);
  const [found] = condition === undefined ? [] : await selectRecords(connection, table, condition);
  if (found !== undefined) return found;
  throw new PortierError([problem("unknown-record", { table: table.name, name: key, candidates: [] })]);
}

/** Of how many records of a table each condition is true. */
async function countBy(connection: Connection, table: Table, conditions: readonly Fragment[]): Promise<number[]> {
  const sums = conditions.map((one, index) => sql`sum(case when ${one} then 1 else 0 end) as ${raw(`c${index}`)}`);
  const source = raw(sourceName(connection.dialect, table));
  const { text, params } = finish(sql`select ${join(sums, ", ")} from ${source}`, connection.dialect.placeholder);
  const [row = {}] = await connection.query(text, params);
  return conditions.map((_, index) => Number(row[`c${index}`] ?? 0));
}

async function findPerson(portier: Portier, connection: Connection, id: string | undefined): Promise<Row | undefined> {
  if (id === undefined || id === visitorWord) return undefined;
  const { people } = portier.schema;
  const condition = people && hasAddress(connection, people.table, [id]);
  const [found] =
    people === undefined || condition === undefined ? [] : await selectRecords(connection, people.table, condition);
  if (found !== undefined) return found;
  throw new PortierError([problem("unknown-person", { name: id, candidates: [visitorWord] })]);
}
