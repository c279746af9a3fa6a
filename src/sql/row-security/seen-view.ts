import { type Field, isOwn, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import type { Plan } from "../../session/plan.js";
import { conditionFormula } from "../condition.js";
import { type Formula, formula, given, implies, isAlways, isNever, print } from "../formula.js";
import { postgres } from "../postgres.js";
import { column, type Scope, scopeOf, tableAs } from "../scope.js";
import { shownFormula } from "../shown.js";
import { tableName } from "../where.js";
import type { AskerView } from "./asker-view.js";
import { branchesOf } from "./branches.js";
import { isNot } from "./change-formula.js";
import { qualified, type Schemas, whoAsks, written } from "./ddl.js";
import { asked, askedOf, isGuarded, isStillPlanned } from "./planned.js";
import type { ReadersView } from "./row-policy.js";

const quote = postgres.quoteName;

/** How the fields of a table's listed records are shown. */
interface Seen {
  readonly table: Table;
  readonly alias: string;
  readonly scope: Scope;
  readonly meets: Formula;
  readonly listed: Formula;
  /** Whether each field is shown, in a record that is listed. */
  readonly fields: readonly { readonly field: Field; readonly shown: Formula; readonly when: Formula }[];
}

/**
 * What whoever asks sees of a table, as a view of the records that the policy lets through: null where a field is hidden.
 * A field that the one who asks sees in every record is the table's own column in the plan.
 */
export function seenView(plan: Plan, table: Table, source: string, readers: ReadersView, schemas: Schemas): string {
  const seen = seenOf(plan, table, readers);
  const { inside } = schemas;
  const columns = columnsOf(seen, ({ shown, when }) =>
    written(print(formula("or", [showsAll(seen, shown), when])), asked(inside)),
  );
  const from = `${source} ${quote(seen.alias)} cross join ${askedOf(inside)}`;
  const where = `${isGuarded(inside, source)} and ${isStillPlanned(inside)}`;
  return `create view ${seenName(schemas, table)} as select\n${columns}\n  from ${from}\n  where ${where}`;
}

export function seenName({ seen }: Schemas, table: Table): string {
  return qualified(seen, tableName(table.source));
}

/** The same for the triggers, which read one record after the other: there is nothing to plan, and who asks is found out once. */
export function shownView(plan: Plan, table: Table, asker: AskerView, schemas: Schemas): string {
  const seen = seenOf(plan, table, asker);
  const columns = columnsOf(seen, ({ when }) => written(print(when)));
  const from = `${written(tableAs(seen.scope, seen.scope.record))} cross join ${whoAsks(schemas.inside)}`;
  const rows = written(print(formula("and", [seen.meets, seen.listed])));
  return `create view ${shownName(schemas, table)} as select\n${columns}\n  from ${from}\n  where ${rows}`;
}

export function shownName({ inside, names }: Schemas, table: Table): string {
  return qualified(inside, names.of(`${table.name} shown`));
}

function seenOf(plan: Plan, table: Table, asker: AskerView | ReadersView): Seen {
  const alias = tableName(table.source);
  const scope = scopeOf(postgres, plan, { table, alias }, asker);
  const { meets } = asker;
  const listed = conditionFormula(conditionOf(plan.of(table.name), "list"), scope);
  const fields = table.fields.filter(isOwn).map((field) => {
    const shown = shownFormula(plan.of(table.name), "list", field, scope);
    return { field, shown, when: given(formula("and", [meets, listed]), shown) };
  });
  return { table, alias, scope, meets, listed, fields };
}

/** The columns of a view, each of its own type also where it is never shown. */
function columnsOf({ scope, fields }: Seen, test: (one: Seen["fields"][number]) => string): string {
  const lines = fields.map((one) => {
    const value = written(column(scope, scope.record, one.field));
    const seen = isAlways(one.when) ? value : `case when ${isNever(one.when) ? "false" : test(one)} then ${value} end`;
    return `  ${seen} as ${quote(one.field.column)}`;
  });
  return lines.join(",\n");
}

/**
 * Whether a field is shown in each record that is listed: where the one who asks lists records by those branches alone in
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
