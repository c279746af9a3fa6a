import { knownTree } from "../../rules/action-tree.js";
import { type Field, singleKey, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import { conditionFormula } from "../condition.js";
import { type Formula, formula, print } from "../formula.js";
import { allOf, anyOf, type Fragment, raw, sql } from "../fragment.js";
import { column, type Scope, tableAs, inside as within } from "../scope.js";
import { shownFormula } from "../shown.js";
import { Joins } from "../value.js";
import type { Change } from "./change-formula.js";
import { literal, textArray, written } from "./ddl.js";
import { rows, type Writing } from "./judged.js";

/** Changed references must lead to records that are known, or to the current user. */
export function references(own: readonly Field[], change: Change, writing: Writing): string {
  const { table, schemas, after } = writing;
  const lines: string[] = [];
  for (const field of own) {
    const lost =
      field.type.target !== undefined ? isLost(field, after, writing) : hasLostElement(field, change, writing);
    if (lost === undefined) continue;
    const name = literal(field.name);
    lines.push(
      `if ${name} = any (_given) and not ${name} = any (_refused) then
  select ${written(lost)} into _permitted
    from ${rows(change, schemas)};
  if _permitted then _missing := _missing || ${name}::text; end if;
end if;`,
    );
  }
  for (const field of table.fields) {
    if (field.by === undefined || field.type.target === undefined) continue;
    const parts = textArray(field.by.map((part) => part.name));
    lines.push(
      `if _given && ${parts} then
  select ${written(isLost(field, after, writing))} into _permitted
    from ${rows(change, schemas)};
  if _permitted then
    _missing := _missing || array(select f from unnest(_given) f where f = any (${parts}) and not f = any (_refused || _missing));
  end if;
end if;`,
    );
  }
  return lines.join("\n");
}

/** Whether a reference, all of whose parts are there, leads to no known record. */
function isLost(field: Field, record: Scope, writing: Writing): Fragment {
  const joins = new Joins(record);
  const target = joins.follow(record.record, [field]);
  const found = joins.exists(print(knownAt(target.table, within(record, joins.depth, target, undefined), writing)));
  const parts = (field.by ?? [field]).map((part) => column(record, record.record, part));
  const isThere = parts.map((part) => sql`${part} is not null`);
  const own = parts[0] === undefined ? [] : isMyself(parts[0], target.table, writing);
  return allOf([...isThere, sql`not ${anyOf([found, ...own])}`]);
}

function hasLostElement(field: Field, change: Change, writing: Writing): Fragment | undefined {
  const target = field.type.element?.target;
  if (target === undefined) return undefined;
  const { plan, after, before } = writing;
  const { table } = plan.other(target);
  const joins = new Joins(after);
  const place = joins.place(table);
  const scope = within(after, joins.depth, place, undefined);
  const element = raw("e.key");
  const key = column(scope, place, table.key[0] as Field);
  const isKnown = print(knownAt(table, scope, writing));
  const found = sql`exists (select 1 from ${tableAs(scope, place)} where ${key} = ${element} and ${isKnown})`;
  const shown = formula("or", [shownFormula(plan, "list", field, before), shownFormula(plan, "view", field, before)]);
  const stored = column(before, before.record, field);
  const isNew =
    change.before === undefined
      ? []
      : [sql`(${element} = any (case when ${print(shown)} then ${stored} end)) is not true`];
  const isLostOne = allOf([...isNew, sql`not ${anyOf([found, ...isMyself(element, table, writing)])}`]);
  return sql`exists (select 1 from unnest(${column(after, after.record, field)}) e(key) where e.key is not null and ${isLostOne})`;
}

function isMyself(key: Fragment, target: Table, { schema, subject }: Writing): Fragment[] {
  const { people } = schema;
  const personKey = people && singleKey(people.table);
  if (people?.table !== target || personKey === undefined) return [];
  const me = subject.value({ kind: "me", type: personKey.type, path: [personKey] });
  return [sql`(${key} = ${me}) is true`];
}

function knownAt(table: Table, scope: Scope, { plan }: Writing): Formula {
  return conditionFormula(conditionOf(plan.other(table.name), knownTree(table)), scope);
}
