import { type Field, singleKey, type Table } from "../../schema/schema.js";
import { formula, print } from "../formula.js";
import { allOf, anyOf, type Fragment, raw, sql } from "../fragment.js";
import { column } from "../scope.js";
import { shownFormula } from "../shown.js";
import type { Change } from "./change-formula.js";
import { block, common, inTrigger, literal, textArray } from "./ddl.js";
import type { Writing } from "./judged.js";
import { isKnown } from "./seen-view.js";

/** Changed references must lead to records that are known, or to the current user. */
export function references(own: readonly Field[], change: Change, writing: Writing): string[] {
  const { table, schemas, plan } = writing;
  const lines: string[] = [];
  for (const field of own) {
    const { target, element } = field.type;
    const name = literal(field.name);
    const isToSee = `${name} = any (_given) and not ${name} = any (_refused)`;
    const lost =
      target !== undefined
        ? isLost(field, plan.other(target).table, writing)
        : element?.target !== undefined
          ? hasLostElement(field, plan.other(element.target).table, change, writing)
          : undefined;
    if (lost === undefined) continue;
    lines.push(
      block(`if ${isToSee} and ${inTrigger(lost)} then`, [`_missing := _missing || ${name}::text;`], "end if;"),
    );
  }
  for (const field of table.fields) {
    if (field.by === undefined || field.type.target === undefined) continue;
    const parts = field.by.map((part) => part.name);
    const lost = inTrigger(isLost(field, plan.other(field.type.target).table, writing));
    const missing = `array(select f from unnest(${common(schemas, parts)}) f where not f = any (_refused || _missing))`;
    const collected = `_missing := _missing || ${missing};`;
    lines.push(block(`if _given && ${textArray(parts)} and ${lost} then`, [collected], "end if;"));
  }
  return lines;
}

/** Whether a reference, all of whose parts are there, leads to no known record. */
function isLost(field: Field, target: Table, { after, ...writing }: Writing): Fragment {
  const parts = (field.by ?? [field]).map((part) => column(after, after.record, part));
  const isThere = parts.map((part) => sql`${part} is not null`);
  const found = raw(
    isKnown(
      writing.schemas,
      target,
      parts.map((part) => inTrigger(part)),
    ),
  );
  const own = parts[0] === undefined ? [] : isMyself(parts[0], target, writing);
  return allOf([...isThere, sql`not ${anyOf([found, ...own])}`]);
}

function hasLostElement(field: Field, target: Table, change: Change, writing: Writing): Fragment {
  const { plan, after, before, schemas } = writing;
  const element = raw("e.key");
  const found = raw(isKnown(schemas, target, ["e.key"]));
  const shown = formula("or", [shownFormula(plan, "list", field, before), shownFormula(plan, "view", field, before)]);
  const stored = column(before, before.record, field);
  const isNew =
    change.before === undefined
      ? []
      : [sql`(${element} = any (case when ${print(shown)} then ${stored} end)) is not true`];
  const isLostOne = allOf([...isNew, sql`not ${anyOf([found, ...isMyself(element, target, writing)])}`]);
  return sql`exists (select 1 from unnest(${column(after, after.record, field)}) e(key) where e.key is not null and ${isLostOne})`;
}

function isMyself(key: Fragment, target: Table, { schema, subject }: Pick<Writing, "schema" | "subject">): Fragment[] {
  const { people } = schema;
  const personKey = people && singleKey(people.table);
  if (people?.table !== target || personKey === undefined) return [];
  const me = subject.value({ kind: "me", type: personKey.type, path: [personKey] });
  return [sql`(${key} = ${me}) is true`];
}
