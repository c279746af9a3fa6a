import { readCondition } from "../conditions/check.js";
import { and, type Expression, isMade, never, operandsOf, visitTests } from "../conditions/expression.js";
import { parseCondition } from "../conditions/parser.js";
import { specialize } from "../conditions/specialize.js";
import { visitSyntax } from "../conditions/syntax.js";
import type { ShowAction } from "../rules/action-tree.js";
import { PortierError, portierError } from "../schema/problems.js";
import { Problems } from "../schema/report.js";
import { type Field, isOwn, type Schema, type Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import { knownTable } from "../session/known-table.js";
import type { Session } from "../session/session.js";

import { sortKeys } from "../session/sort.js";
import { conditionFormula } from "../sql/condition.js";
import { print } from "../sql/formula.js";
import { type Fragment, finish, raw, sql } from "../sql/fragment.js";
import { maskedFragment, unmask } from "../sql/masked-select.js";
import { orderBy } from "../sql/order.js";
import { column, scopeOf } from "../sql/scope.js";
import type { Connection, DriverRow } from "./connection.js";

/** Which of the records that somebody sees, and in which order. */
export interface ListQuery {
  /**
   * A condition in the language of the rules on the table's own fields: `status = 'on_display' and title contains 'Bell'`;
   * or several, all of which must be met.
   */
  readonly where?: string | readonly string[];
  /**
   * Names of fields, each with `-` in front where the greatest comes first; records without a value come last. Text goes by
   * code point, numbers and instants by their value, on every database. Lists and json values have no order.
   */
  readonly sort?: readonly string[];
  /** At most so many. Default: all. */
  readonly limit?: number;
  /** After so many. Default: 0. */
  readonly offset?: number;
  /** What they are shown for. Default: `list`. */
  readonly action?: ShowAction;
}

/** A page of a list, and how many records there are in all. */
export interface Page<R> {
  /** As {@link Session.mask} shows them. */
  readonly records: readonly R[];
  /** How many meet the condition, on all pages. */
  readonly total: number;
}

const alias = "m";

/**
 * The records of a table as a person sees them, filtered, sorted and cut by the database. Filter and order work on what
 * is shown alone: a hidden value is null for them, so that nothing can be learned of it.
 *
 * @throws PortierError for a condition that is wrong, or that asks about more than the record itself; for a field that is
 * not there.
 */
export async function listRecords<R>(
  connection: Connection,
  session: Session,
  name: string,
  { where, sort = [], limit, offset = 0, action = "list" }: ListQuery,
): Promise<Page<R>> {
  const residual = internals(session);
  const { table } = residual.plan.of(name);
  const { dialect } = connection;
  const hidden = freeName(table);
  const columns = { nameOf: ({ column }: Field) => column, fence: false };
  const shown = maskedFragment(residual, name, action, dialect, { ...columns, hidden });
  const wanted = typeof where === "string" ? [where] : (where ?? []);
  const condition = and(wanted.map((text) => filterOf(session, residual.ruleset.schema, table, text)));
  const scope = scopeOf(dialect, residual, { table, alias });
  const filter = wanted.length === 0 ? raw("") : sql` where ${print(conditionFormula(condition, scope))}`;
  const from = (select: Fragment) => sql`from (${select}) ${raw(dialect.quoteName(alias))}${filter}`;
  // What is wrong is said as if there were no other fields than those that the person can know of.
  if (!isRight(() => sortKeys(table, sort))) sortKeys(knownFields(session, table), sort);
  const order = orderBy(table, sort, dialect, alias, ({ column }) => column);
  const page = raw(limit === undefined ? "" : ` limit ${whole("limit", limit)} offset ${whole("offset", offset)}`);
  const rows = await run(connection, sql`select * ${from(shown)} order by ${order}${page}`);
  // What no filter reads is not worked out to count records.
  const only = table.fields.filter((field) => reads(filter, column(scope, scope.record, field)));
  const counting = maskedFragment(residual, name, action, dialect, { ...columns, only });
  const [counted] = await run(connection, sql`select count(*) as n ${from(counting)}`);
  return {
    records: rows.map((row) => unmask(named(row, table, hidden), table.fields, hidden, dialect) as R),
    total: Number(counted?.["n"] ?? 0),
  };
}

/** Whether a column stands in a text. */
function reads(text: Fragment, [name]: Fragment): boolean {
  return text.some((piece) => typeof piece === "string" && piece.includes(String(name)));
}

function run(connection: Connection, fragment: Fragment): Promise<readonly DriverRow[]> {
  const { text, params } = finish(fragment, connection.dialect.placeholder);
  return connection.query(text, params);
}

/** A name for the column of hidden fields that no other column has. */
function freeName({ fields }: Table): string {
  let name = "hidden";
  while (fields.some((field) => field.column === name || field.name === name)) name = `${name}_`;
  return name;
}

/** A row under the names of the fields. */
function named(row: DriverRow, { fields }: Table, hidden: string): DriverRow {
  return { ...Object.fromEntries(fields.map((field) => [field.name, row[field.column]])), [hidden]: row[hidden] };
}

/** A condition that reads nothing but fields of the record itself, and no other value of the current user. */
function filterOf(session: Session, schema: Schema, table: Table, text: string): Expression {
  const read = (from: Table) => {
    const problems = new Problems();
    // Nothing else than this table can be named, so that no message tells of another.
    const alone: Schema = { ...schema, tables: new Map([[table.name, from]]), request: new Map() };
    const scope = { schema: alone, table: from, problems, path: ["where"], isAction: undefined, members: undefined };
    return { condition: readCondition(text, scope), problems: problems.list };
  };
  const asks = asksMore(text);
  const { condition } = asks ? {} : read(table);
  if (condition === undefined && !asks) throw new PortierError(read(knownFields(session, table)).problems);
  let isPlain = condition !== undefined;
  visitTests(condition ?? never, (test) => {
    for (let operand of operandsOf(test)) {
      while (isMade(operand)) operand = operand.operand;
      const isOwnField = operand.kind === "field" && operand.path.length === 1 && isOwn(operand.path[0]);
      isPlain &&= isOwnField || operand.kind === "constant" || operand.kind === "today";
    }
  });
  if (condition !== undefined && isPlain) return specialize(condition, internals(session).subject.known);
  const hint = "compare fields of the table with values; what the rules ask of others is asked anyway";
  throw portierError("wrong-call", {
    what: `the filter ${JSON.stringify(text)} asks about more than the record itself`,
    hint,
  });
}

function knownFields(session: Session, table: Table): Table {
  return knownTable(session, table) ?? { ...table, fields: [], byName: new Map(), owner: undefined };
}

function isRight(check: () => unknown): boolean {
  try {
    check();
    return true;
  } catch {
    return false;
  }
}

/** Whether a condition that can be read asks about other records, the current user or the request. */
function asksMore(text: string): boolean {
  const parsed = parseCondition(text);
  if ("problems" in parsed) return false;
  let asks = false;
  visitSyntax(parsed.condition, (node) => {
    asks ||= node.kind === "exists" || node.kind === "may" || node.kind === "member";
    asks ||= node.kind === "path" && (node.root === "me" || node.root === "request" || node.names.length > 1);
  });
  return asks;
}

function whole(what: string, value: number): string {
  if (Number.isSafeInteger(value) && value >= 0) return String(value);
  throw portierError("bad-value", { field: what, expects: "a whole number", found: value });
}
