import { actionTree, type ShowAction } from "../rules/action-tree.js";
import { addressBy } from "../schema/address.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { Field } from "../schema/schema.js";
import { storedForm } from "../schema/types/stored-form.js";
import type { Residual } from "../session/bound.js";
import { conditionOf } from "../session/conditions.js";
import { internals } from "../session/internals.js";
import type { Session } from "../session/session.js";
import type { Masked } from "../session/session-types.js";
import type { MaskedRow } from "../session/shown-fields.js";
import { conditionFormula } from "./condition.js";
import type { Dialect } from "./dialect.js";
import { type Formula, given, isAlways, isNever, print, unified } from "./formula.js";
import { type Fragment, finish, join, raw, type Statement, sql } from "./fragment.js";
import { JoinedPaths } from "./joined.js";
import { column, type Scope, scopeOf, tableAs } from "./scope.js";
import { lookupColumn, shownFormula } from "./shown.js";
import { tableName } from "./where.js";

/** How a masked select is written. */
export interface MaskedSelectOptions {
  /** What the records are shown for. Default: `list`. */
  readonly action?: ShowAction;
  /** The position of the first placeholder, 1-based. Default: 1. */
  readonly first?: number;
  /** The name of the column that says what is hidden. Default: `hidden`. */
  readonly hidden?: string;
  /**
   * Keeps filters from outside off the records that are not seen. Without it the database may try them first, and one that
   * can fail (a cast, a division) may tell of such a record by its failure. With it, indexes do not serve those filters.
   * Default: false.
   */
  readonly fence?: boolean;
}

/** A select of what one person sees of a table. */
export interface MaskedSelect<R = MaskedRow> extends Statement {
  /**
   * A row that the database gave, as `session.mask` gives it: without the fields that are hidden, values as applications
   * hold them. What else the statement around it selected is left out.
   */
  readonly unmask: (row: Readonly<Record<string, unknown>>) => R;
}

/**
 * What one person sees of a table, as a select to put into brackets: the records that they may list (view, export),
 * under the names of the fields, null where a field is hidden in a record. Filters, sorts, counts and groups stand
 * outside it, and so can only work with what is seen.
 *
 * The last column, `hidden`, names the fields that are hidden in the record, with commas between them. A field that is
 * seen in every record of the select is selected as it is. What references lead to is joined, each once; the key of that
 * table must be unique in the database. A reference made of other fields has no column; `unmask` puts it together.
 *
 * @throws PortierError for a table that is not there, or where a field is called as the column of hidden ones is.
 *
 * @example
 * const seen = maskedSelect(session, "objects", postgres);
 * const { rows } = await client.query(`select * from (${seen.text}) o where o.title like 'A%' order by o.title`, seen.params);
 * return rows.map(seen.unmask);
 */
export function maskedSelect<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  name: K,
  dialect: Dialect,
  { action = "list", first = 1, hidden = "hidden", fence = false }: MaskedSelectOptions = {},
): MaskedSelect<Masked<T, K>> {
  const residual = internals(session);
  const { table } = residual.plan.of(name);
  residual.parts.stated?.(name, action);
  if (table.byName.has(hidden)) {
    const hint = `give the column of hidden fields another name: { hidden: "${hidden}_fields" }`;
    throw portierError("wrong-call", { what: `"${name}" has a field "${hidden}"`, hint });
  }
  const nameOf = (field: Field) => field.name;
  const select = maskedFragment(residual, name, action, dialect, { nameOf, hidden, fence });
  return {
    ...finish(select, dialect.placeholder, first),
    unmask: unmasker(table.fields, hidden, dialect, nameOf) as (row: DriverRow) => Masked<T, K>,
  };
}

export interface MaskedColumns {
  /** What the column of a field is called in the select. */
  readonly nameOf: (field: Field) => string;
  /** What the column of hidden fields is called; undefined for none. */
  readonly hidden?: string;
  /** The fields that have a column. Default: all. */
  readonly only?: readonly Field[];
  readonly fence: boolean;
}

/** The select itself, to be put together with other fragments. */
export function maskedFragment(
  residual: Residual,
  name: string,
  action: ShowAction,
  dialect: Dialect,
  columns: MaskedColumns,
): Fragment {
  return maskedFragments(residual, name, action, dialect, [columns])[0] as Fragment;
}

/** Several selects of the same records, with other columns. */
export function maskedFragments(
  residual: Residual,
  name: string,
  action: ShowAction,
  dialect: Dialect,
  each: readonly MaskedColumns[],
): readonly Fragment[] {
  const table = residual.plan.of(name).table;
  const joined = new JoinedPaths(tableName(table.source));
  const { shown, scope, rows } = shownFields(residual, name, action, dialect, { joined });
  const called = (value: Fragment, as: string) => sql`${value} as ${raw(dialect.quoteName(as))}`;
  const filter = isAlways(rows) ? raw("") : sql` where ${print(rows)}`;
  return each.map(({ nameOf, hidden, only, fence }) => {
    const sought = only === undefined ? shown : shown.filter(({ field }) => only.includes(field));
    const columns = columnsIn(sought, scope).map(({ field, value }) => called(value, nameOf(field)));
    if (hidden !== undefined) columns.push(called(hiddenNames(shown, dialect), hidden));
    const end = raw(fence ? ` ${dialect.fence}` : "");
    const list = columns.length === 0 ? raw("1") : join(columns, ", ");
    const joins = joined.joinsFor([...list, ...filter], dialect.quoteName);
    return sql`select ${list} from ${tableAs(scope, scope.record)}${joins}${filter}${end}`;
  });
}

/**
 * Each field that has a column, with its value where it is shown in a record that is seen; else null. `as`: what the table
 * is called in the statement, if not by its own name.
 */
export function maskedColumns(
  residual: Residual,
  name: string,
  action: ShowAction,
  dialect: Dialect,
  as?: string,
): { readonly field: Field; readonly value: Fragment }[] {
  const { shown, scope } = shownFields(residual, name, action, dialect, as === undefined ? {} : { as });
  return columnsIn(shown, scope);
}

function columnsIn(shown: readonly Shown[], scope: Scope): { readonly field: Field; readonly value: Fragment }[] {
  return shown
    .filter(({ field }) => field.by === undefined)
    .map(({ field, when }) => ({ field, value: masked(field, when, scope) }));
}

function shownFields(
  residual: Residual,
  name: string,
  action: ShowAction,
  dialect: Dialect,
  { as, joined }: { readonly as?: string; readonly joined?: JoinedPaths },
) {
  const gates = residual.plan.of(name);
  const { table } = gates;
  const scope = scopeOf(dialect, residual, { table, alias: as ?? tableName(table.source) }, undefined, joined);
  const tests = new Map<string, Formula>();
  const rows = unified(conditionFormula(conditionOf(gates, actionTree(table, action, undefined)), scope), tests);
  const shown = table.fields.map(
    (field): Shown => ({ field, when: unified(given(rows, shownFormula(gates, action, field, scope)), tests) }),
  );
  return { shown, scope, rows };
}

/** A field's column, its value only where it is shown. */
function masked(field: Field, when: Formula, scope: Scope): Fragment {
  const value = field.lookup === undefined ? column(scope, scope.record, field) : lookupColumn(field, scope);
  if (value === undefined && isNever(when)) return raw("null");
  if (value === undefined) {
    const what = `the lookup "${field.name}" of "${field.table}" shows a reference made of other fields, and has no column`;
    throw portierError("wrong-call", { what, hint: "look up the fields that it is made of" });
  }
  // Null, but of the column's type: without it PostgreSQL takes null for a text, and a filter from outside that compares
  // it with a number would fail for those alone who never see it.
  if (isNever(when)) return sql`case when false then ${value} end`;
  return isAlways(when) ? value : sql`case when ${print(when)} then ${value} end`;
}

interface Shown {
  readonly field: Field;
  /** Where the record itself is seen. */
  readonly when: Formula;
}

/** The names of the fields that are hidden in a record. Fields under one condition are named by one test. */
function hiddenNames(shown: readonly Shown[], dialect: Dialect): Fragment {
  const groups = new Map<string, { readonly when: Formula; readonly names: string[] }>();
  for (const { field, when } of shown) {
    if (isAlways(when)) continue;
    const id = JSON.stringify(print(when));
    const group = groups.get(id) ?? { when, names: [] };
    group.names.push(encodeName(field.name));
    groups.set(id, group);
  }
  const each = [...groups.values()];
  const names = (list: typeof each) => dialect.text(list.flatMap((group) => group.names).join(","));
  const always = each.filter(({ when }) => isNever(when));
  if (always.length === each.length) return names(always);
  const sometimes = each
    .filter(({ when }) => !isNever(when))
    .map((group) => sql`case when ${print(group.when)} then null else ${names([group])} end`);
  return dialect.listed(always.length === 0 ? sometimes : [...sometimes, names(always)]);
}

function encodeName(name: string): string {
  return name.replaceAll("%", "%25").replaceAll(",", "%2C");
}

/** How many sets of hidden fields are kept in mind; each record could hide another. */
const mostSets = 1_000;

/**
 * Reads rows of a masked select as a person sees them: without what is hidden, values as applications hold them. `nameOf` is
 * what the column of a field is called in the row.
 */
export function unmasker(
  fields: readonly Field[],
  hidden: string,
  dialect: Dialect,
  nameOf: (field: Field) => string,
): (row: DriverRow) => MaskedRow {
  const columns = fields.map((field) => ({ field, column: nameOf(field), encoded: encodeName(field.name) }));
  const shownBeside = new Map<string, typeof columns>();
  const shownOf = (names: string) => {
    const known = shownBeside.get(names);
    if (known !== undefined) return known;
    const isHidden = new Set(names.split(","));
    const shown = columns.filter(({ encoded }) => !isHidden.has(encoded));
    if (shownBeside.size < mostSets) shownBeside.set(names, shown);
    return shown;
  };
  return (row) => {
    const names = row[hidden];
    if (typeof names !== "string") {
      const what = `the row has no column "${hidden}"`;
      throw portierError("wrong-call", { what, hint: "select it along with the rest" });
    }
    const read = (field: Field): unknown =>
      field.by === undefined ? dialect.decode(field.type, row[nameOf(field)]) : addressBy(field.by, read);
    const seen: MaskedRow = {};
    for (const { field, column } of shownOf(names)) {
      const value = field.by === undefined ? dialect.decode(field.type, row[column]) : read(field);
      const form = value === null || value === undefined ? value : storedForm(field.type, value);
      if (form !== undefined) seen[field.name] = form;
    }
    return seen;
  };
}

type DriverRow = Readonly<Record<string, unknown>>;
