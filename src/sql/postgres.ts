import type { Scalar } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import { listElements } from "../schema/types/list.js";
import { canonicalTimestamp } from "../schema/types/timestamp.js";
import { type Dialect, escapeLike, isTextual, minutesOf } from "./dialect.js";
import { type Fragment, join, param, raw, sql } from "./fragment.js";

/**
 * PostgreSQL 15 and newer, served or embedded. Columns: `text`, `varchar` or an enum for texts and choices, `integer` or
 * `bigint`, `numeric`, `boolean`, `date`, `timestamptz`, arrays for lists, `jsonb`. Drivers must hand out dates and
 * instants as text (their default makes local-time objects of them): see {@link postgresTexts}.
 *
 * Texts must be in deterministic collations, as all are that do not say otherwise, and in one and the same where two
 * columns are compared; `citext` and the like hold for equal what the rules do not.
 */
export const postgres: Dialect = {
  name: "postgres",
  quoteName: (name) => `"${name.replaceAll('"', '""')}"`,
  placeholder: (position) => `$${position}`,
  constant: (type, value) => {
    if (type.element !== undefined) return arrayOf(type.element, listElements(value));
    const cast = casts[type.base];
    if (type.base === "boolean") return raw(String(value));
    // Texts are left to the column: a cast would keep enums and uuids from being compared at all.
    return cast === undefined ? param(value) : sql`cast(${param(value)} as ${raw(cast)})`;
  },
  stored: (_type, column) => column,
  fits: (type, column) => {
    if (type.choices !== undefined) return sql`${column} in (${join(type.choices.map(param), ", ")})`;
    switch (type.base) {
      // NaN is above infinity here, and equal to itself.
      case "decimal":
        return sql`(${column} > '-Infinity' and ${column} < 'Infinity')`;
      case "date":
      case "timestamp":
        return inCalendar(type, column);
      case "list":
        return listFits(type, column);
      default:
        return undefined;
    }
  },
  compare: (op, type, left, right) => {
    if (type.element !== undefined) {
      const array = raw(`${casts[type.element.base] ?? "text"}[]`);
      return sql`cast(${left} as ${array}) ${raw(op)} cast(${right} as ${array})`;
    }
    // Order is by code point only in "C". Equality is by byte in every deterministic collation, and without "collate"
    // the column's index serves it, in joins above all.
    const isOrder = op !== "=" && op !== "<>";
    return isOrder && isTextual(type) ? sql`${left} collate "C" ${raw(op)} ${right}` : sql`${left} ${raw(op)} ${right}`;
  },
  among: (_type, value, constants) => sql`${value} in (${join(constants, ", ")})`,
  match: (how, text, pattern, literal) => {
    const subject = sql`${text} collate "C"`;
    switch (how) {
      case "like":
        // The model's "like" knows no escape.
        return sql`${subject} like ${pattern} escape ''`;
      case "starts with":
        // Written so that an index can serve it.
        return literal === undefined
          ? sql`starts_with(${subject}, ${pattern})`
          : sql`${subject} like ${param(`${escapeLike(literal)}%`)} escape '!'`;
      case "ends with":
        return literal === undefined
          ? sql`right(${subject}, length(${pattern})) = ${pattern}`
          : sql`${subject} like ${param(`%${escapeLike(literal)}`)} escape '!'`;
      case "contains":
        return literal === undefined
          ? sql`strpos(${subject}, ${pattern}) > 0`
          : sql`${subject} like ${param(`%${escapeLike(literal)}%`)} escape '!'`;
      default:
        return how satisfies never;
    }
  },
  shift: (type, value, amount, unit) => {
    // 24 hours, not a day: a day's length depends on the connection's time zone.
    const moved =
      type.base === "date"
        ? sql`${value} + ${raw(String(amount))}`
        : sql`${value} + interval '${raw(String(amount * minutesOf[unit]))} minutes'`;
    return sql`case when ${inCalendar(type, sql`(${moved})`)} then ${moved} end`;
  },
  contains: (_list, column, element) => sql`${element} = any(${column})`,
  decode: (type, value) => {
    if (typeof value !== "string") return value;
    switch (type.base) {
      case "integer":
        return /^-?\d+$/.test(value) && Number.isSafeInteger(Number(value)) ? Number(value) : value;
      case "timestamp":
        return instantOf(value);
      default:
        return value;
    }
  },
  encode: (type, value) => (type.base === "json" && value !== null ? JSON.stringify(value) : value),
  text: (value) => sql`cast(${param(value)} as text)`,
  listed: (texts) => sql`concat_ws(',', ${join(texts, ", ")})`,
};

const casts: Partial<Record<FieldType["base"], string>> = {
  boolean: "boolean",
  integer: "bigint",
  decimal: "numeric",
  date: "date",
  timestamp: "timestamptz",
};

/** In the years 0001 to 9999; infinity is not. */
function inCalendar(type: FieldType, value: Fragment): Fragment {
  return type.base === "date"
    ? sql`(${value} >= date '0001-01-01' and ${value} <= date '9999-12-31')`
    : sql`(${value} >= timestamptz '0001-01-01 00:00:00Z' and ${value} < timestamptz '10000-01-01 00:00:00Z')`;
}

function arrayOf(element: FieldType, values: readonly Scalar[]): Fragment {
  return sql`array[${join(values.map(param), ", ")}]::${raw(casts[element.base] ?? "text")}[]`;
}

function listFits(type: FieldType, column: Fragment): Fragment {
  const whole = sql`array_position(${column}, null) is null`;
  const choices = type.element?.choices;
  return choices === undefined
    ? whole
    : sql`(${whole} and ${column} <@ ${arrayOf(type.element as FieldType, choices)})`;
}

/** `2027-01-31 12:00:00.5+00` as ISO 8601; what is none (`infinity`) stays, and does not fit. */
function instantOf(value: string): string {
  return canonicalTimestamp(value.replace(/([+-]\d\d)$/, "$1:00")) ?? value;
}

/** Object ids of the types that are to be handed out as they are sent: date, timestamptz, numeric, and lists of them. */
export const postgresTexts: readonly number[] = [1082, 1184, 1700, 1182, 1185, 1231];
