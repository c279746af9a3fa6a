import { actionTree, knownTree } from "../../rules/action-tree.js";
import { type Field, isOwn, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import type { Plan } from "../../session/plan.js";
import { conditionFormula } from "../condition.js";
import { type Formula, formula, given, implies, isAlways, isNever, print } from "../formula.js";
import { postgres } from "../postgres.js";
import { column, type Scope, scopeOf, tableAs } from "../scope.js";
import { shownFormula } from "../shown.js";
import { tableName } from "../where.js";
import { branchesOf } from "./branches.js";
import { isNot } from "./change-formula.js";
import { fromSubject, isShownAlias, literal, qualified, type Schemas, written } from "./ddl.js";
import { planIsCurrent, plannedTest } from "./overlay.js";
import type { ReadersView } from "./row-policy.js";
import type { SubjectView } from "./subject-view.js";

const quote = postgres.quoteName;

/** How the fields of a table's listed records are shown. */
interface Seen {
  readonly table: Table;
  readonly alias: string;
  readonly scope: Scope;
  readonly meets: Formula;
  readonly listed: Formula;
  readonly fields: readonly Shown[];
}

/** Whether a field is shown: `when` in a record that is listed. */
interface Shown {
  readonly field: Field;
  readonly shown: Formula;
  readonly when: Formula;
}

/** What the current user sees of a table, as a view of the records that the policy lets through: null where a field is hidden. */
export function seenView(plan: Plan, table: Table, source: string, readers: ReadersView, schemas: Schemas): string {
  const seen = seenOf(plan, table, readers);
  const { inside } = schemas;
  const isAsking = seen.fields.some(({ when }) => !isAlways(when) && !isNever(when));
  return viewOf(seenName(schemas, table), seen, ({ when }) => written(print(when)), {
    from: [`${source} ${quote(seen.alias)}`, ...(isAsking ? [fromSubject(inside)] : [])],
    // Known while the statement is planned: without it, as where somebody copied the database without its roles, the view
    // would show all records.
    where: `${qualified(inside, "rls_active")}(${literal(source)})`,
  });
}

/**
 * The same in the overlay, where it is planned for the current user. A field that they see in every record is the table's own
 * column in the plan.
 */
export function plannedView(plan: Plan, table: Table, source: string, readers: ReadersView, schemas: Schemas): string {
  const seen = seenOf(plan, table, readers);
  const test = ({ shown, when }: Shown) =>
    plannedTest(formula("or", [showsAll(seen, shown), when]), readers.subject, schemas);
  return viewOf(plannedName(schemas, table), seen, test, {
    from: [`${source} ${quote(seen.alias)}`],
    where: planIsCurrent(schemas, source),
  });
}

/** The name of a table's view in the overlay. */
export function plannedName({ overlay }: Schemas, table: Table): string {
  return qualified(overlay.seen, tableName(table.source));
}

export function seenName({ seen }: Schemas, table: Table): string {
  return qualified(seen, tableName(table.source));
}

/** The same for the triggers, which read one record after the other: there is nothing to plan, and the current user is found out once. */
export function shownView(plan: Plan, table: Table, subject: SubjectView, schemas: Schemas): string {
  const seen = seenOf(plan, table, subject);
  return viewOf(shownName(schemas, table), seen, ({ when }) => written(print(when)), {
    from: [written(tableAs(seen.scope, seen.scope.record)), fromSubject(schemas.inside)],
    where: written(print(formula("and", [seen.meets, seen.listed]))),
  });
}

export function shownName({ inside, names }: Schemas, table: Table): string {
  return qualified(inside, names.of(`${table.name} shown`));
}

/** The keys of the records that the current user knows of: what changes and references may be to. */
export function knownView(plan: Plan, table: Table, subject: SubjectView, schemas: Schemas): string {
  const alias = tableName(table.source);
  const scope = scopeOf(postgres, { plan }, { table, alias }, subject);
  const known = conditionFormula(conditionOf(plan.of(table.name), knownTree(table)), scope);
  const keys = table.key.map((field) => written(column(scope, scope.record, field)));
  const from = [written(tableAs(scope, scope.record)), fromSubject(schemas.inside)];
  return `create view ${knownName(schemas, table)} as select ${keys.join(", ")}
  from ${from.join(", ")}
  where ${written(print(known))}`;
}

/** Whether a record with these values for its key is known. */
export function isKnown(schemas: Schemas, table: Table, values: readonly string[]): string {
  const same = table.key.map((field, index) => `k.${quote(field.column)} = ${values[index]}`);
  return `exists (select from ${knownName(schemas, table)} k where ${same.join(" and ")})`;
}

function knownName({ inside, names }: Schemas, { name }: Table): string {
  return qualified(inside, names.of(`${name} known`));
}

function seenOf(plan: Plan, table: Table, subject: SubjectView | ReadersView): Seen {
  const alias = tableName(table.source);
  const scope = scopeOf(postgres, { plan }, { table, alias }, subject);
  const { meets } = subject;
  const listed = conditionFormula(conditionOf(plan.of(table.name), actionTree(table, "list", undefined)), scope);
  const fields = table.fields.filter(isOwn).map((field) => {
    const shown = shownFormula(plan.of(table.name), "list", field, scope);
    return { field, shown, when: given(formula("and", [meets, listed]), shown) };
  });
  return { table, alias, scope, meets, listed, fields };
}

/**
 * A view of a table's records, each column of its own type also where it is never shown. A test of several columns is written
 * once, and called after the first of them: PostgreSQL copies all of a view while it plans a statement on it.
 */
function viewOf(
  name: string,
  { scope, fields }: Seen,
  testOf: (one: Shown) => string,
  { from, where }: { readonly from: readonly string[]; readonly where: string },
): string {
  const columns = fields.map((one) => ({
    name: quote(one.field.column),
    value: written(column(scope, scope.record, one.field)),
    test: isNever(one.when) ? "false" : isAlways(one.when) ? "true" : testOf(one),
  }));
  const shared = new Map<string, string>();
  for (const [index, { name, test }] of columns.entries()) {
    const isRepeated = columns.slice(index + 1).some((other) => other.test === test);
    if (isRepeated && !isShort(test) && !shared.has(test)) shared.set(test, name);
  }
  const lines = columns.map(({ name, value, test }) => {
    const first = shared.get(test);
    const isShown = first === undefined ? test : `${isShownAlias}.${first}`;
    return test === "true" ? `  ${value}` : `  case when ${isShown} then ${value} end as ${name}`;
  });
  const once = [...shared].map(([test, first]) => `      ${test} as ${first}`);
  const tables = once.length === 0 ? from : [...from, `lateral (select\n${once.join(",\n")}) ${isShownAlias}`];
  return `create view ${name} as select\n${lines.join(",\n")}\n  from ${tables.join(",\n    ")}\n  where ${where}`;
}

/** Whether a test is short enough to be written again: a constant, or something that is true of the current user. */
function isShort(test: string): boolean {
  return /^[\w."]+(?:\('[^']*'\))?$/.test(test);
}

/**
 * Whether a field is shown in each record that is listed: where the current user lists records by those branches alone in
 * which it is shown. It asks nothing of the record.
 */
function showsAll({ listed, meets }: Seen, shown: Formula): Formula {
  const hiding = branchesOf(listed).filter(({ guard, rest }) => !implies(formula("and", [meets, guard, rest]), shown));
  return isNot(
    formula(
      "or",
      hiding.map(({ guard }) => guard),
    ),
  );
}
