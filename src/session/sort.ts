import { fieldValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { compareText, type Scalar } from "../schema/scalar.js";
import type { Field, Table } from "../schema/schema.js";
import { compareDecimals } from "../schema/types/decimal.js";
import type { FieldType } from "../schema/types/field-type.js";

/** What a table's records are sorted by: a field's values, or their reverse. */
export interface SortKey {
  readonly field: Field;
  readonly isDown: boolean;
  /** Whether somebody asked for it; else it is the key, by which records are told apart that are alike in all else. */
  readonly isAsked: boolean;
}

/**
 * The fields that are named, each with `-` in front where the greatest comes first, and then the key, so that the order is
 * the same each time.
 *
 * @throws PortierError for a field that is not there, and for one whose values have no order.
 */
export function sortKeys(table: Pick<Table, "name" | "byName" | "key">, sort: readonly string[]): readonly SortKey[] {
  const asked = sort.map((name): SortKey => {
    const isDown = name.startsWith("-");
    return { field: sortField(table, isDown ? name.slice(1) : name), isDown, isAsked: true };
  });
  const named = new Set(asked.map(({ field }) => field));
  const keys = table.key.filter((key) => !named.has(key));
  return [...asked, ...keys.map((field) => ({ field, isDown: false, isAsked: false }))];
}

function sortField({ name: table, byName }: Pick<Table, "name" | "byName">, name: string): Field {
  const field = byName.get(name);
  if (field === undefined || field.by !== undefined) {
    const candidates = [...byName.values()].filter(({ by }) => by === undefined).map((one) => one.name);
    throw portierError("unknown-field", { table, name, candidates });
  }
  if (field.type.base !== "list" && field.type.base !== "json") return field;
  const what = `"${name}" is a ${field.type.noun}, and its values have no order`;
  throw portierError("wrong-call", { what, hint: "sort by another field" });
}

/** Records as they are shown, in the order of these keys. What is hidden, null or bad data comes last whichever way. */
export function sortRecords<R extends Row>(records: Iterable<R>, keys: readonly SortKey[]): R[] {
  const read = ({ field }: SortKey, row: Row): Scalar | undefined => {
    const value = fieldValue(row, field);
    return value === null || value === undefined ? undefined : field.type.canonical(value);
  };
  const compare = (one: Row, other: Row): number => {
    for (const key of keys) {
      const [a, b] = [read(key, one), read(key, other)];
      if (a === b) continue;
      if (a === undefined || b === undefined) return a === undefined ? 1 : -1;
      const order = compareValues(key.field.type, a, b);
      if (order !== 0) return key.isDown ? -order : order;
    }
    return 0;
  };
  return [...records].sort(compare);
}

function compareValues({ base }: FieldType, a: Scalar, b: Scalar): number {
  if (base === "decimal") return compareDecimals(String(a), String(b));
  return typeof a === "string" ? compareText(a, String(b)) : Number(a) - Number(b);
}
