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
import type { Plan } from "../session/plan.js";
import { Recent } from "../session/recent.js";
import type { Session } from "../session/session.js";
import { sortKeys } from "../session/sort.js";
import { comesAfter } from "../sql/after.js";
import { conditionFormula } from "../sql/condition.js";
import type { Dialect } from "../sql/dialect.js";
import { print } from "../sql/formula.js";
import { allOf, type Fragment, raw, sql } from "../sql/fragment.js";
import { maskedFragments, unmasker } from "../sql/masked-select.js";
import { orderBy } from "../sql/order.js";
import { column, scopeOf } from "../sql/scope.js";
import type { DriverRow } from "./connection.js";
import { cursorOf, readCursor } from "./cursor.js";
import type { Select } from "./together.js";

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
  /**
   * After the page whose `next` this is, in the same order. It is found by its place and not by counting, so that it takes no
   * longer however far it is, and moves nothing when records come and go before it.
   */
  readonly after?: string;
  /** Whether it is counted how many there are in all, which takes longer than the page where they are many. Default: true. */
  readonly total?: boolean;
  /** What they are shown for. Default: `list`. */
  readonly action?: ShowAction;
}

/** A page of a list, and how many records there are in all. */
export interface Page<R> {
  /** As {@link Session.mask} shows them. */
  readonly records: readonly R[];
  /** How many meet the condition, on all pages; undefined where that was not asked. */
  readonly total: number | undefined;
  /** What {@link ListQuery.after} takes for the page after this one; undefined for the last one, and where no limit was given. */
  readonly next: string | undefined;
}

const alias = "m";

/** A list as it is asked of a database. */
export interface Listing<R> {
  readonly selects: readonly Select[];
  /** The page, made of the rows that each select gave. */
  readonly page: (found: readonly (readonly DriverRow[])[]) => Page<R>;
}

/**
 * The records of a table as a person sees them, filtered, sorted and cut by the database. Filter and order work on what
 * is shown alone: a hidden value is null for them, so that nothing can be learned of it.
 *
 * @throws PortierError for a condition that is wrong, or that asks about more than the record itself; for a field that is
 * not there.
 */
export function listing<R>(
  dialect: Dialect,
  session: Session,
  name: string,
  { where, sort = [], limit, offset = 0, after, total = true, action = "list" }: ListQuery,
): Listing<R> {
  const residual = internals(session);
  const { table } = residual.plan.of(name);
  const quoted = (column: string) => raw(`${dialect.quoteName(alias)}.${dialect.quoteName(column)}`);
  const wanted = typeof where === "string" ? [where] : (where ?? []);
  const condition = and(wanted.map((text) => filterOf(session, residual.ruleset.schema, table, text)));
  const scope = scopeOf(dialect, residual, { table, alias });
  const filter = wanted.length === 0 ? [] : [print(conditionFormula(condition, scope))];
  // What is wrong is said as if there were no other fields than those that the person can know of.
  if (!isRight(() => sortKeys(table, sort))) sortKeys(knownFields(session, table), sort);
  const keys = sortKeys(table, sort);
  const columnOf = ({ column }: Field) => quoted(column);
  const place = after === undefined ? [] : [comesAfter(table, sort, dialect, columnOf, readCursor(after, sort, keys))];

  const hidden = freeName(table);
  const nameOf = ({ column }: Field) => column;
  // What no filter reads is not worked out to count records.
  const only = table.fields.filter((field) => filter.some((one) => reads(one, column(scope, scope.record, field))));
  const each = [{ nameOf, hidden, fence: false }, ...(total ? [{ nameOf, only, fence: false }] : [])];
  const id = JSON.stringify([name, action, residual.values, total, only.map((field) => field.name)]);
  const [shown = [], counted] = writtenOnce(dialect, residual.plan, id, () =>
    maskedFragments(residual, name, action, dialect, each),
  );
  const from = (select: Fragment, tests: readonly Fragment[]) => {
    const tested = tests.length === 0 ? raw("") : sql` where ${allOf(tests)}`;
    return sql`from (${select}) ${raw(dialect.quoteName(alias))}${tested}`;
  };
  const records: Select = {
    text: sql`select * ${from(shown, [...filter, ...place])}`,
    columns: [...table.fields.filter(({ by }) => by === undefined).map(nameOf), hidden],
    order: {
      terms: (named) => orderBy(table, sort, dialect, ({ column }) => named(column)),
      cut: cut(limit, offset, after),
    },
  };
  const count = counted && { text: sql`select count(*) as n ${from(counted, filter)}`, columns: ["n"] };
  const unmask = unmasker(table.fields, hidden, dialect, nameOf);
  return {
    selects: count === undefined ? [records] : [records, count],
    page: ([rows = [], all]) => {
      const seen = rows.slice(0, limit).map(unmask);
      const last = seen[seen.length - 1];
      return {
        records: seen as R[],
        total: all && Number(all[0]?.["n"] ?? 0),
        next: last === undefined || seen.length === rows.length ? undefined : cursorOf(sort, keys, last),
      };
    },
  };
}

/** How many masked selects are kept for all who are alike. */
const mostWritten = 100;
const writtenBy = new WeakMap<Dialect, WeakMap<Plan, Recent<readonly Fragment[]>>>();

/**
 * Masked selects as they were written before for somebody who shares the plan: beside it they depend on nothing but what is
 * in `id`.
 */
function writtenOnce(dialect: Dialect, plan: Plan, id: string, write: () => readonly Fragment[]): readonly Fragment[] {
  const byPlan = writtenBy.get(dialect) ?? new WeakMap<Plan, Recent<readonly Fragment[]>>();
  writtenBy.set(dialect, byPlan);
  const recent = byPlan.get(plan) ?? new Recent<readonly Fragment[]>(mostWritten);
  byPlan.set(plan, recent);
  const known = recent.get(id) ?? write();
  recent.set(id, known);
  return known;
}

/** One record more than is shown, by which it is known whether there is another page. */
function cut(limit: number | undefined, offset: number, after: string | undefined): Fragment {
  if (after !== undefined && offset !== 0) {
    throw portierError("wrong-call", { what: '"after" and "offset" were both given', hint: "give one of them" });
  }
  if (limit === undefined) return raw("");
  return raw(` limit ${whole("limit", limit) + 1} offset ${whole("offset", offset)}`);
}

/** Whether a column stands in a text. */
function reads(text: Fragment, [name]: Fragment): boolean {
  return text.some((piece) => typeof piece === "string" && piece.includes(String(name)));
}

/** A name for the column of hidden fields that no other column has. */
function freeName({ fields }: Table): string {
  let name = "hidden";
  while (fields.some((field) => field.column === name || field.name === name)) name = `${name}_`;
  return name;
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

function whole(what: string, value: number): number {
  if (Number.isSafeInteger(value) && value >= 0) return value;
  throw portierError("bad-value", { field: what, expects: "a whole number", found: value });
}
