import type { Scalar } from "../schema/scalar.js";
import type { Field, Table } from "../schema/schema.js";
import { type SortKey, sortKeys } from "../session/sort.js";
import { type Dialect, isTextual } from "./dialect.js";
import { allOf, anyOf, type Fragment, param, raw, sql } from "./fragment.js";
import { orderedColumn } from "./order.js";

/**
 * Whether a record comes after a place in the order of {@link orderBy}: `values` are what one at that place holds in the
 * fields of the order, null where it has none. What is null comes last.
 */
export function comesAfter(
  table: Pick<Table, "name" | "byName" | "key">,
  sort: readonly string[],
  dialect: Dialect,
  columnOf: (field: Field) => Fragment,
  values: readonly (Scalar | null)[],
): Fragment {
  const keys = sortKeys(table, sort).map((key, index): Place => {
    const isKey = table.key.includes(key.field);
    const column = columnOf(key.field);
    return {
      ...key,
      isKey,
      column: isKey ? column : orderedColumn(key.field, column, dialect),
      value: values[index] ?? null,
    };
  });
  const ways = keys.map((key, index) => {
    const later = isLater(key, dialect);
    return later && allOf([...keys.slice(0, index).map((before) => isEqual(before, dialect)), later]);
  });
  const [first] = keys;
  const any = anyOf(ways.filter((way) => way !== undefined));
  if (first === undefined || !first.isKey || keys.length === 1) return any;
  // Said by itself, so that the key's index finds where to begin.
  return allOf([anyOf([...ways.slice(0, 1).filter((way) => way !== undefined), isEqual(first, dialect)]), any]);
}

interface Place extends SortKey {
  readonly isKey: boolean;
  readonly column: Fragment;
  readonly value: Scalar | null;
}

function isLater(place: Place, dialect: Dialect): Fragment | undefined {
  const { column, value, isKey } = place;
  if (value === null) return undefined;
  const later = isGreater(place, value, dialect);
  return isKey ? later : anyOf([later, sql`${column} is null`]);
}

function isGreater(
  { field: { type }, column, isDown, isAsked, isKey }: Place,
  value: Scalar,
  dialect: Dialect,
): Fragment {
  const op = isDown ? "<" : ">";
  if (!isTextual(type)) return dialect.compare(op, type, dialect.stored(type, column), dialect.constant(type, value));
  // As the order has them: by code point, or where the key only tells records apart, as the column does.
  const placed = (text: Fragment) => (isKey && !isAsked ? text : dialect.order(type, text, false).flat());
  return sql`${placed(column)} ${raw(op)} ${placed(param(value))}`;
}

function isEqual({ field: { type }, column, value }: Place, dialect: Dialect): Fragment {
  if (value === null) return sql`${column} is null`;
  return dialect.compare("=", type, dialect.stored(type, column), dialect.constant(type, value));
}
