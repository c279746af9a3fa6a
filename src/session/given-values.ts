import { fieldValue, type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { Field, Table } from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";
import type { Refusal } from "./change-result.js";
import { lookupValue } from "./lookups.js";
import type { TablePlan } from "./plan.js";
import type { UserMessages } from "./user-messages.js";

export function unknownFields(table: Table, values: Row, { noSuchField }: UserMessages): readonly Refusal[] {
  const unknown: Refusal[] = [];
  for (const name of Object.keys(values)) {
    if (table.byName.has(name)) continue;
    unknown.push({ field: name, reason: "no-such-field", message: noSuchField });
  }
  return unknown;
}

/**
 * A field counts as changed when its value does, by the rules of its type. One that the person may neither list nor
 * view counts whenever it is given: the answer must not tell whether a guess was right.
 */
export function changedFields(plan: TablePlan, before: Row, values: Row, reading: Reading): readonly Field[] {
  const { table } = plan;
  const changed: Field[] = [];
  for (const name of Object.keys(values)) {
    const field = table.byName.get(name);
    if (field === undefined) continue;
    const stored = field.lookup === undefined ? fieldValue(before, field) : lookupValue(plan, field, before, reading);
    if (!sameValue(field, stored, proposed(values, field)) || isHidden(plan, field, before, reading))
      changed.push(field);
  }
  return changed.length > 1 ? changed.sort((a, b) => a.index - b.index) : changed;
}

/** Whether the person may neither list nor view a field of a record. */
export function isHidden(plan: TablePlan, field: Field, row: Row, reading: Reading): boolean {
  const shows = (action: "list" | "view") => plan.answers(action).permits(field.name)(row, reading);
  return !shows("list") && !shows("view");
}

export function sameValue(field: Field, a: unknown, b: unknown): boolean {
  if (a === null || b === null) return a === b;
  if (typeof a === "string" && field.type.base === "text") return a === b;
  const canonical = storedValue(field.type, a);
  return canonical !== undefined && canonical === field.type.canonical(b);
}

/** The proposed value; undefined is nothing, which for a stored field is null. */
export function proposed(values: Row, field: Field): unknown {
  return values[field.name] ?? null;
}

/**
 * A copy of a record to put new values into. A plain object is copied as it is; of any other the declared fields are
 * read, as getters would be lost.
 */
export function rowOf(table: Table, row: Row): Record<string, unknown> {
  if (isPlain(row)) return { ...row };
  const copy: Record<string, unknown> = {};
  for (const field of table.fields) {
    const value = rawValue(row, field.name);
    if (value !== undefined) copy[field.name] = value;
  }
  return copy;
}

/** The record after a change of these fields. */
export function withValues(table: Table, before: Row, fields: readonly Field[], values: Row): Record<string, unknown> {
  const after = rowOf(table, before);
  for (const field of fields) after[field.name] = proposed(values, field);
  return after;
}

/** Of the given values those of some fields. */
export function pick(values: Row, fields: readonly Field[]): Row {
  // An object that is copied whole is made much faster than one put together by names (see bench/).
  if (isWhole(fields, values)) return { ...values };
  const picked: Record<string, unknown> = {};
  for (const field of fields) picked[field.name] = proposed(values, field);
  return picked;
}

/** Whether the values are those of these fields, in their order, and nothing else. */
function isWhole(fields: readonly Field[], values: Row): boolean {
  const names = Object.keys(values);
  return (
    names.length === fields.length &&
    names.every((name, at) => fields[at]?.name === name && values[name] !== undefined && name !== "__proto__")
  );
}

function isPlain(row: Row): boolean {
  const prototype = Object.getPrototypeOf(row);
  return prototype === Object.prototype || prototype === null;
}
