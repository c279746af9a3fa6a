import type { Scalar } from "./scalar.js";
import type { Field, Table } from "./schema.js";
import type { FieldType } from "./types/field-type.js";
import { storedValue } from "./types/stored-form.js";

/**
 * Names a record by one text: the value of its key; for a key of several fields their values in order, joined by `/`,
 * with `/` and `%` percent-encoded.
 */
export function joinAddress(values: readonly Scalar[]): string {
  if (values.length === 1) return String(values[0]);
  return values.map((value) => String(value).replaceAll("%", "%25").replaceAll("/", "%2F")).join("/");
}

/**
 * The canonical values that an address of these key fields' types is made of; undefined for what is no such address.
 */
export function splitAddress(types: readonly FieldType[], address: string): readonly Scalar[] | undefined {
  const parts = types.length === 1 ? [address] : address.split("/").map(decodePart);
  if (parts.length !== types.length) return undefined;
  const values = types.map((type, index) => {
    const part = parts[index] as string;
    return type.canonical(type.base === "integer" ? Number(part) : part);
  });
  return values.every((value) => value !== undefined) ? values : undefined;
}

function decodePart(part: string): string {
  return part.replaceAll("%2F", "/").replaceAll("%25", "%");
}

/**
 * The address that some fields of a record make up: null when one of them is null, undefined when one does not fit its
 * type.
 */
export function addressBy(fields: readonly Field[], read: (field: Field) => unknown): string | null | undefined {
  const values: Scalar[] = [];
  let isNull = false;
  for (const field of fields) {
    const raw = read(field);
    if (raw === null) {
      isNull = true;
      continue;
    }
    const value = storedValue(field.type, raw);
    if (value === undefined) return undefined;
    values.push(value);
  }
  return isNull ? null : joinAddress(values);
}

/** A record's address; undefined for a record whose key is null, missing or no value of its type. */
export function recordAddress(table: Table, row: Readonly<Record<string, unknown>>): string | undefined {
  return addressBy(table.key, (field) => (Object.hasOwn(row, field.name) ? row[field.name] : undefined)) ?? undefined;
}
