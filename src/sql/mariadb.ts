import type { Scalar } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import { canonicalTimestamp } from "../schema/types/timestamp.js";
import { type Dialect, escapeLike, isTextual, minutesOf } from "./dialect.js";
import { type Fragment, join, param, raw, sql } from "./fragment.js";

/**
 * MariaDB 10.7 and newer. Columns: `varchar` or `text` for texts and choices, `int` or `bigint`, `decimal`, `boolean`
 * (`tinyint(1)`), `date`, `datetime(6)` in UTC, `json` for lists and json values. Declare texts, and keys above all,
 * with `collate utf8mb4_nopad_bin`: the default collation ignores case and spaces at the end, so that an index of it
 * cannot serve a comparison that does not.
 *
 * The connection must speak utf8mb4 and hand out dates as text.
 */
export const mariadb: Dialect = {
  name: "mariadb",
  quoteName: (name) => `\`${name.replaceAll("`", "``")}\``,
  placeholder: () => "?",
  constant: (type, value) => {
    switch (type.base) {
      case "boolean":
        return raw(String(value));
      case "integer":
        return sql`cast(${param(value)} as signed)`;
      case "decimal":
        return sql`cast(${param(value)} as ${raw(decimalOf(value))})`;
      case "date":
        return sql`cast(${param(value)} as date)`;
      case "timestamp":
        return sql`cast(${param(String(value).slice(0, 26).replace("T", " "))} as datetime(6))`;
      default:
        return param(value);
    }
  },
  stored: ({ base }, column) => (base === "json" ? sql`nullif(json_compact(${column}), 'null')` : column),
  fits: (type, column) => {
    if (type.choices !== undefined) return sql`${column} in (${join(type.choices.map(exact), ", ")})`;
    switch (type.base) {
      case "boolean":
        return sql`${column} in (0, 1)`;
      // "0000-00-00" and days such as "2027-02-00" are stored where the mode allows it.
      case "date":
      case "timestamp":
        return sql`(${column} >= '0001-01-01' and dayofmonth(${column}) > 0 and month(${column}) > 0)`;
      case "list":
        return listFits(type, column);
      default:
        return undefined;
    }
  },
  compare: (op, type, left, right) => {
    if (type.base === "list") {
      const equal = sql`json_equals(${left}, ${right})`;
      return op === "=" ? sql`${equal} = 1` : sql`${equal} = 0`;
    }
    // On the right, so that an index of the same collation serves the column.
    return isTextual(type) ? sql`${left} ${raw(op)} ${exactly(right)}` : sql`${left} ${raw(op)} ${right}`;
  },
  among: (type, value, constants) =>
    sql`${value} in (${join(isTextual(type) ? constants.map(exactly) : constants, ", ")})`,
  match: (how, text, pattern, literal) => {
    const subject = exactly(text);
    switch (how) {
      case "like":
        // The model's "like" knows no escape, and this database's always does: "!" is made to stand for itself.
        return literal === undefined
          ? sql`${subject} like replace(${pattern}, '!', '!!') escape '!'`
          : sql`${subject} like ${param(literal.replaceAll("!", "!!"))} escape '!'`;
      case "starts with":
        return literal === undefined
          ? sql`left(${text}, char_length(${pattern})) = ${exactly(pattern)}`
          : sql`${text} like ${exact(`${escapeLike(literal)}%`)} escape '!'`;
      case "ends with":
        return sql`right(${text}, char_length(${pattern})) = ${exactly(pattern)}`;
      case "contains":
        return sql`locate(${exactly(pattern)}, ${text}) > 0`;
      default:
        return how satisfies never;
    }
  },
  shift: (type, value, amount, unit) => {
    const interval = type.base === "date" ? `${amount} day` : `${amount * minutesOf[unit]} minute`;
    const moved = sql`(${value} + interval ${raw(interval)})`;
    return sql`case when ${moved} >= '0001-01-01' then ${moved} end`;
  },
  contains: (list, column, element) => {
    const isText = list.element !== undefined && isTextual(list.element);
    const sought = isText ? sql`json_quote(${element})` : sql`cast(${element} as char)`;
    return sql`json_contains(${column}, ${sought})`;
  },
  columnType: (type, isKey) => {
    // The widest text that a key of several columns has room for.
    const exactly = "character set utf8mb4 collate utf8mb4_nopad_bin";
    return isTextual(type) ? `${isKey ? "varchar(190)" : "text"} ${exactly}` : columnTypes[type.base];
  },
  // A backslash escapes here, as long as the mode does not say otherwise.
  literal: (text) => `'${text.replaceAll("\\", "\\\\").replaceAll("'", "''")}'`,
  numbering: "auto_increment",
  decode: (type, value) => {
    switch (type.base) {
      case "boolean":
        return value === 0 || value === 1 ? value === 1 : value;
      case "timestamp":
        return typeof value === "string" ? (canonicalTimestamp(`${value}Z`) ?? value) : value;
      case "list":
      case "json":
        return typeof value === "string" ? parsed(value) : value;
      default:
        return value;
    }
  },
  encode: (type, value) => {
    if (value === null) return value;
    if (type.base === "list" || type.base === "json") return JSON.stringify(value);
    const instant = type.base === "timestamp" ? canonicalTimestamp(value) : undefined;
    return instant === undefined ? value : instant.slice(0, 26).replace("T", " ");
  },
  fence: "limit 18446744073709551615",
  text: (value) => sql`cast(${param(value)} as char)`,
  listed: (texts) => sql`concat_ws(',', ${join(texts, ", ")})`,
};

const columnTypes: Readonly<Record<FieldType["base"], string>> = {
  text: "text",
  choice: "text",
  integer: "bigint",
  decimal: "decimal(38, 10)",
  boolean: "boolean",
  date: "date",
  timestamp: "datetime(6)",
  list: "json",
  json: "json",
};

function parsed(value: string): unknown {
  try {
    return JSON.parse(value);
  } catch {
    return value;
  }
}

function exactly(text: Fragment): Fragment {
  return sql`${text} collate utf8mb4_nopad_bin`;
}

function exact(value: Scalar): Fragment {
  return exactly(param(value));
}

/** Wide enough for the value: a cast to fewer digits would round it. */
function decimalOf(value: Scalar): string {
  const [whole = "", fraction = ""] = String(value).replace("-", "").split(".");
  return `decimal(${Math.max(1, whole.length + fraction.length)}, ${fraction.length})`;
}

/** An array without nulls and without lists in it, each element of the type; by its text, as elements cannot be gone through. */
function listFits(type: FieldType, column: Fragment): Fragment {
  const element = type.element as FieldType;
  const one = element.base === "integer" ? "-?\\d+" : '"(?:[^"\\\\]|\\\\.)*+"';
  const array = `^\\s*\\[\\s*(?:${one}\\s*(?:,\\s*${one}\\s*)*+)?\\]\\s*$`;
  const fits = sql`${column} regexp ${param(array)}`;
  if (element.choices === undefined) return sql`(${fits})`;
  const choices = sql`json_array(${join(element.choices.map(param), ", ")})`;
  return sql`(${fits} and json_contains(${choices}, ${column}))`;
}
