import { type Field, isOwn, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import type { Plan } from "../../session/plan.js";
import { conditionFormula } from "../condition.js";
import { type Formula, formula, given, isAlways, isFixed, isNever, print, test } from "../formula.js";
import { type Fragment, raw, sql } from "../fragment.js";
import { postgres } from "../postgres.js";
import { column, type Scope, scopeOf, tableAs } from "../scope.js";
import { shownFormula } from "../shown.js";
import { tableName } from "../where.js";
import type { AskerView } from "./asker-view.js";
import { type Branch, branchesOf } from "./branches.js";
import { isNot } from "./change-formula.js";
import { joined, qualified, selected, whoAsks, written } from "./ddl.js";
import type { Schemas } from "./foundation.js";

/**
 * What whoever asks sees of a table, as a view that reads it with the rights of its owner: the records that they may list,
 * null where a field is hidden. Conditions from outside that can fail, or tell, are tried on no other record.
 *
 * Who sees more, and who less, is planned apart: a role whose holders see everything should not keep an index from
 * serving those who see little.
 */
export function seenView(plan: Plan, table: Table, asker: AskerView, schemas: Schemas): string[] {
  const alias = tableName(table.source);
  const scope = scopeOf(postgres, plan, { table, alias }, asker);
  const branches = branchesOf(conditionFormula(conditionOf(plan.of(table.name), "list"), scope));
  const selects = branches.map((branch, index) => {
    const earlier = branches.slice(0, index).map(({ guard, rest }) => formula("and", [guard, rest]));
    return selectOf(branch, earlier, table, asker, scope, schemas);
  });
  const viewOf = (name: string, body: string) => `create view ${name} with (security_barrier) as ${body}`;
  const view = qualified(schemas.seen, alias);
  const [only] = selects;
  if (only !== undefined && selects.length === 1) return [viewOf(view, only)];
  // Each select is a view of its own: of a "union" PostgreSQL forgets that it is a barrier, and would try what a filter
  // from outside tells on records that are not seen.
  const parts = selects.map((_, index) => qualified(schemas.inside, schemas.names.of(`${table.name} ${index + 1}`)));
  return [
    ...selects.map((select, index) => viewOf(parts[index] as string, select)),
    viewOf(view, `\n  ${parts.map((part) => `select * from ${part}`).join("\n  union all ")}`),
  ];
}

function selectOf(
  { guard, rest }: Branch,
  earlier: readonly Formula[],
  table: Table,
  asker: AskerView,
  scope: Scope,
  { inside }: Schemas,
): string {
  const rows = formula("and", [asker.meets, guard, rest]);
  const columns = table.fields.filter(isOwn).map((field) => {
    const shown = shownFormula(scope.plan.of(table.name), "list", field, scope);
    return sql`${shownColumn(field, given(rows, shown), scope)} as ${raw(postgres.quoteName(field.column))}`;
  });
  const select = columns.map((one) => `  ${written(one, joined)}`).join(",\n");
  const isMasked = columns.some((one) => one.some((piece) => typeof piece !== "string" && "fact" in piece));
  const from = `${written(tableAs(scope, scope.record))}${isMasked ? ` cross join ${whoAsks(inside)}` : ""}`;
  const others = formula("and", [rows, ...earlier.map(isNot)]);
  const where = written(print(selectedOnce(others, inside)), selected(inside));
  return `select\n${select}\n  from ${from}\n  where ${where}`;
}

/** Of the column's own type also where it is never shown. */
function shownColumn(field: Field, when: Formula, scope: Scope): Fragment {
  const value = column(scope, scope.record, field);
  if (isAlways(when)) return value;
  return isNever(when) ? sql`case when false then ${value} end` : sql`case when ${print(when)} then ${value} end`;
}

/** What asks nothing of a record, put together as far as it goes and worked out once for the statement. */
function selectedOnce(one: Formula, inside: string): Formula {
  if (isFixed(one)) {
    if (one.kind !== "test" && one.terms.length === 0) return one;
    return test(raw(`(select ${written(print(one), joined)} from ${whoAsks(inside)})`), true);
  }
  if (one.kind === "test") return one;
  const fixed = one.terms.filter(isFixed);
  const others = one.terms.filter((term) => !isFixed(term)).map((term) => selectedOnce(term, inside));
  const once = fixed.length === 0 ? [] : [selectedOnce(formula(one.kind, fixed), inside)];
  return { kind: one.kind, terms: [...once, ...others] };
}
