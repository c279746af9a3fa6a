import type { Row } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { isStorable } from "../schema/scalar.js";
import type { Field, Table } from "../schema/schema.js";
import type { ChangeContext } from "./change-context.js";
import type { Refusal } from "./change-result.js";

/** A key is always needed; another field unless it is optional. What is made by itself or by the database is not. */
function isNeeded(table: Table, field: Field): boolean {
  if (field.computed || field.generated) return false;
  return !field.optional || table.key.includes(field);
}

export function invalidValues(
  { messages }: ChangeContext,
  table: Table,
  fields: readonly Field[],
  row: Row,
  isNew: boolean,
): Refusal[] {
  const wrong: Refusal[] = [];
  for (const field of fields) {
    const value = row[field.name] ?? null;
    // A new record may leave to the database what it fills; a change that empties it may not.
    const isEmptied = !isNew && field.generated && !field.optional;
    const isRight = value === null ? !isNeeded(table, field) && !isEmptied : field.type.fits(value);
    if (isRight && isStorable(value)) continue;
    const { textNotStorable, valueMissing, wrongValue } = messages;
    const message = isRight ? textNotStorable : value === null ? valueMissing : wrongValue(field.type.name);
    wrong.push({ field: field.name, reason: "invalid", message });
  }
  return wrong;
}

/** What the database fills when it is not given: null is given, and no value of it. */
export function emptied({ messages }: ChangeContext, table: Table, values: Row): Refusal[] {
  return table.fields
    .filter(({ name, generated, optional }) => generated && !optional && values[name] === null)
    .map(({ name }) => ({ field: name, reason: "invalid" as const, message: messages.valueMissing }));
}

/** Where the source can tell. */
export function takenKey({ reading, messages }: ChangeContext, table: Table, row: Row): Refusal[] {
  const address = recordAddress(table, row);
  const [first] = table.key;
  if (address === undefined || first === undefined || reading.source === undefined) return [];
  const taken = reading.source.find(table.name, address) !== undefined;
  return taken ? [{ field: first.name, reason: "key-taken", message: messages.keyTaken }] : [];
}
