import { readCondition } from "../conditions/check.js";
import { and, type Expression, operandsOf, visitTests } from "../conditions/expression.js";
import { specialize } from "../conditions/specialize.js";
import { PortierError, portierError } from "../schema/problems.js";
import { Problems } from "../schema/report.js";
import { type Field, isOwn, type Schema, type Table } from "../schema/schema.js";
import type { ShowAction } from "../session/mask.js";
import { insidesOf } from "../session/portier.js";
import type { Session } from "../session/session.js";
import { conditionFormula } from "../sql/condition.js";
import { print } from "../sql/formula.js";
import { type Fragment, finish, join, raw, sql } from "../sql/fragment.js";
import { maskedFragment, unmask } from "../sql/masked-select.js";
import { scopeOf } from "../sql/scope.js";
import type { Connection, DriverRow } from "./connection.js";

/** Which of the records that somebody sees, and in which order. */
export interface ListQuery {
  /**
   * A condition in the language of the rules on the table's own fields: `status = 'on_display' and title contains 'Bell'`;
   * or several, all of which must be met.
   */
  readonly where?: string | readonly string[];
  /** Names of fields, each with `-` in front where the greatest comes first; records without a value come last. */
  readonly sort?: readonly string[];
  /** At most so many. Default: all. */
  readonly limit?: number;
  /** After so many. Default: 0. */
  readonly offset?: number;
  /** What they are shown for. Default: `list`. */
  readonly action?: ShowAction;
}

export interface Listed<R> {
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
): Promise<Listed<R>> {
  const { plan, ruleset } = insidesOf(session);
  const { table } = plan.of(name);
  const { dialect } = connection;
  const hidden = freeName(table);
  const shown = maskedFragment(plan, name, action, dialect, { nameOf: ({ column }) => column, hidden, fence: false });
  const wanted = typeof where === "string" ? [where] : (where ?? []);
  const condition = and(wanted.map((text) => filterOf(session, ruleset.schema, table, text)));
  const scope = scopeOf(dialect, plan, { table, alias });
  const filter = wanted.length === 0 ? raw("") : sql` where ${print(conditionFormula(condition, scope))}`;
  const from = sql`from (${shown}) ${raw(dialect.quoteName(alias))}${filter}`;
  const order = orderOf(table, sort, connection);
  const page = raw(limit === undefined ? "" : ` limit ${whole("limit", limit)} offset ${whole("offset", offset)}`);
  const rows = await run(connection, sql`select * ${from} order by ${order}${page}`);
  const [counted] = await run(connection, sql`select count(*) as n ${from}`);
  return {
    records: rows.map((row) => unmask(named(row, table, hidden), table.fields, hidden, dialect) as R),
    total: Number(counted?.["n"] ?? 0),
  };
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

/** A condition that reads nothing but fields of the record itself, and no other value of who asks. */
function filterOf(session: Session, schema: Schema, table: Table, text: string): Expression {
  const problems = new Problems();
  const condition = readCondition(text, { schema, table, problems, path: ["where"], isAction: undefined });
  if (condition === undefined || problems.list.length > 0) throw new PortierError(problems.list);
  visitTests(condition, (test) => {
    const isPlain = ["truth", "compare", "in", "in-list", "match", "is-null"].includes(test.kind);
    const reads = operandsOf(test).map((operand) => {
      let inner = operand;
      while (inner.kind === "shift" || inner.kind === "as-decimal") inner = inner.operand;
      return inner.kind === "field"
        ? inner.path.length === 1 && isOwn(inner.path[0])
        : ["constant", "today"].includes(inner.kind);
    });
    if (isPlain && reads.every(Boolean)) return;
    const hint = "compare fields of the table with values; what the rules ask of others is asked anyway";
    throw portierError("wrong-call", {
      what: `the filter ${JSON.stringify(text)} asks about more than the record itself`,
      hint,
    });
  });
  return specialize(condition, insidesOf(session).subject.known);
}

/** What is null comes last whichever way; the key makes the order the same each time. */
function orderOf(table: Table, sort: readonly string[], { dialect }: Connection): Fragment {
  const asked = sort.map((name) => {
    const isDown = name.startsWith("-");
    return { field: fieldOf(table, isDown ? name.slice(1) : name), isDown };
  });
  const keys = table.key
    .filter((key) => !asked.some(({ field }) => field === key))
    .map((field) => ({ field, isDown: false }));
  return join(
    [...asked, ...keys].map(({ field, isDown }) => {
      const column = raw(`${dialect.quoteName(alias)}.${dialect.quoteName(field.column)}`);
      return sql`case when ${column} is null then 1 else 0 end, ${dialect.stored(field.type, column)}${raw(isDown ? " desc" : "")}`;
    }),
    ", ",
  );
}

function fieldOf(table: Table, name: string): Field {
  const field = table.byName.get(name);
  if (field?.by === undefined && field !== undefined) return field;
  throw portierError("unknown-field", { table: table.name, name, candidates: table.byName.keys() });
}

function whole(what: string, value: number): string {
  if (Number.isSafeInteger(value) && value >= 0) return String(value);
  throw portierError("bad-value", { field: what, expects: "a whole number", found: value });
}
