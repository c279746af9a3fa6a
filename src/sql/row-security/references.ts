import { type Field, singleKey, type Table } from "../../schema/schema.js";
import { formula, print } from "../formula.js";
import { allOf, anyOf, type Fragment, raw, sql } from "../fragment.js";
import { column } from "../scope.js";
import { shownFormula } from "../shown.js";
import { block, common, inTrigger, literal, textsLiteral, without } from "./ddl.js";
import type { Writing } from "./gates.js";
import { isKnown } from "./seen-view.js";

/**
 * Lines that collect which changed references lead to no record that is known, and not to the current user. `_given` are the
 * fields that are given and not refused.
 */
export function references(own: readonly Field[], writing: Writing): string[] {
  const { table, schemas, plan } = writing;
  const single = own.flatMap((field) => {
    const { target, element } = field.type;
    const name = literal(field.name);
    const lost =
      target !== undefined
        ? isLost(field, plan.other(target).table, writing)
        : element?.target !== undefined
          ? hasLostElement(field, plan.other(element.target).table, writing)
          : undefined;
    return lost === undefined ? [] : [`  case when ${name} = any (_given) and ${inTrigger(lost)} then ${name} end`];
  });
  const collected = single.length === 0 ? [] : [`_missing := array_remove(array[\n${single.join(",\n")}], null);`];
  const composite = table.fields.flatMap((field) => {
    if (field.by === undefined || field.type.target === undefined) return [];
    const parts = field.by.map((part) => part.name);
    const lost = inTrigger(isLost(field, plan.other(field.type.target).table, writing));
    const more = `_missing := _missing || ${without(schemas, common(schemas, parts), "_missing")};`;
    return [block(`if _given && ${textsLiteral(parts)} and ${lost} then`, [more], "end if;")];
  });
  return [...collected, ...composite];
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

function hasLostElement(field: Field, target: Table, writing: Writing): Fragment {
  const { plan, after, before, schemas } = writing;
  const element = raw("e.key");
  const found = raw(isKnown(schemas, target, ["e.key"]));
  const shown = formula("or", [shownFormula(plan, "list", field, before), shownFormula(plan, "view", field, before)]);
  const stored = column(before, before.record, field);
  // Of a new record nothing is stored.
  const isNew = sql`(${element} = any (case when ${print(shown)} then ${stored} end)) is not true`;
  const isLostOne = allOf([isNew, sql`not ${anyOf([found, ...isMyself(element, target, writing)])}`]);
  return sql`exists (select 1 from unnest(${column(after, after.record, field)}) e(key) where e.key is not null and ${isLostOne})`;
}

function isMyself(key: Fragment, target: Table, { schema, subject }: Pick<Writing, "schema" | "subject">): Fragment[] {
  const { people } = schema;
  const personKey = people && singleKey(people.table);
  if (people?.table !== target || personKey === undefined) return [];
  const me = subject.value({ kind: "me", type: personKey.type, path: [personKey] });
  return [sql`(${key} = ${me}) is true`];
}
