import type { ComparisonOp } from "../conditions/syntax.js";
import { quoteText } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import { type Dialect, isTextual, minutesOf } from "./dialect.js";
import { anyOf, type Fragment, join, param, raw, sql } from "./fragment.js";

/**
 * SQLite 3.38 and newer. Columns: `text` for texts, choices, dates (`YYYY-MM-DD`), timestamps (ISO 8601 with zone) and
 * decimals (digits; SQLite has no exact number but integers, and a real is bad data here), `integer` for integers and
 * booleans (0 and 1), `text` with JSON for lists and json values.
 *
 * Decimals and timestamps are compared through an expression over the column, which no plain index serves.
 */
export const sqlite: Dialect = {
  name: "sqlite",
  quoteName: (name) => `"${name.replaceAll('"', '""')}"`,
  placeholder: () => "?",
  constant: (type, value) => {
    if (type.base === "boolean") return raw(value === true ? "1" : "0");
    return type.base === "timestamp" ? param(String(value).slice(0, 26)) : param(value);
  },
  stored: (type, column) => {
    if (type.base === "timestamp") return instantKey(column, []);
    if (type.base === "json") return sql`nullif(trim(${column}), 'null')`;
    return type.base === "decimal" ? sql`cast(${column} as text)` : column;
  },
  fits: (type, column) => {
    if (type.choices !== undefined) return sql`${column} in (${join(type.choices.map(param), ", ")})`;
    switch (type.base) {
      case "text":
      case "choice":
        return sql`typeof(${column}) = 'text'`;
      case "integer":
        return sql`typeof(${column}) = 'integer'`;
      case "boolean":
        return sql`${column} in (0, 1)`;
      case "decimal":
        return isDecimal(column);
      case "date":
        // date() corrects what is no day of the calendar, and gives null for what is no date.
        return sql`(coalesce(date(${column}), '') = ${column} and ${column} >= '0001')`;
      case "timestamp":
        return isInstant(column);
      case "list":
        return listFits(type, column);
      case "json":
        return sql`json_valid(${column})`;
      default:
        return type.base satisfies never;
    }
  },
  compare: (op, type, left, right) => {
    if (type.base === "decimal") return compareDecimals(op, left, right);
    if (type.base === "list") return sql`${plainList(left)} ${raw(op)} ${plainList(right)}`;
    // On the right, so that the column's index still serves it; it decides for both sides.
    return isTextual(type) ? sql`${left} ${raw(op)} ${right} collate binary` : sql`${left} ${raw(op)} ${right}`;
  },
  among: (type, value, constants) => {
    if (type.base === "decimal") return anyOf(constants.map((one) => compareDecimals("=", value, one)));
    return sql`${value}${raw(isTextual(type) ? " collate binary" : "")} in (${join(constants, ", ")})`;
  },
  match: (how, text, pattern) => {
    switch (how) {
      case "like":
        // The database's own "like" ignores case; "glob" does not, and is told the same pattern in its signs.
        return sql`${text} glob ${globOf(pattern)}`;
      case "starts with":
        return sql`substr(${text}, 1, length(${pattern})) = ${pattern} collate binary`;
      case "ends with":
        return sql`(${pattern} = '' or substr(${text}, -length(${pattern})) = ${pattern} collate binary)`;
      case "contains":
        return sql`instr(${text}, ${pattern}) > 0`;
      default:
        return how satisfies never;
    }
  },
  shift: (type, value, amount, unit) => {
    const by = (count: number, what: string) => param(`${count < 0 ? "" : "+"}${count} ${what}`);
    const moved =
      type.base === "date"
        ? sql`date(${value}, ${by(amount, "days")})`
        : instantKey(value, [by(amount * minutesOf[unit], "minutes")]);
    return sql`case when ${moved} >= '0001' then ${moved} end`;
  },
  contains: (_list, column, element) =>
    sql`exists (select 1 from ${elements(column)} where value = ${element} collate binary)`,
  // Not "decimal": SQLite would make inexact numbers of what stands in such a column.
  columnType: ({ base }) => (["integer", "boolean", "date", "timestamp"].includes(base) ? base : "text"),
  // A key of one integer does so by itself.
  literal: quoteText,
  numbering: "",
  decode: (type, value) => {
    if (value === null) return value;
    switch (type.base) {
      case "boolean":
        return value === 0 || value === 1 ? value === 1 : value;
      case "integer":
        return typeof value === "bigint" && Number.isSafeInteger(Number(value)) ? Number(value) : value;
      case "decimal":
        return typeof value === "bigint" || Number.isSafeInteger(value) ? String(value) : value;
      case "list":
      case "json":
        return parsed(value);
      default:
        return value;
    }
  },
  encode: (type, value) => {
    if (typeof value === "boolean" && type.base === "boolean") return value ? 1 : 0;
    return type.base === "list" || type.base === "json" ? JSON.stringify(value) : value;
  },
  fence: "limit -1 offset 0",
  text: (value) => param(value),
  listed: (texts) =>
    sql`substr(${join(
      texts.map((text) => sql`coalesce(',' || ${text}, '')`),
      " || ",
    )}, 2)`,
};

function parsed(value: unknown): unknown {
  if (typeof value !== "string") return value;
  try {
    return JSON.parse(value);
  } catch {
    return value;
  }
}

/** `%` and `_` as `*` and `?`, after what is special to "glob" is put in brackets. */
function globOf(pattern: Fragment): Fragment {
  const steps = [
    ["[", "[[]"],
    ["*", "[*]"],
    ["?", "[?]"],
    ["%", "*"],
    ["_", "?"],
  ] as const;
  return steps.reduce((glob, [from, to]) => sql`replace(${glob}, ${raw(`'${from}'`)}, ${raw(`'${to}'`)})`, pattern);
}

/** An instant as `YYYY-MM-DDTHH:MM:SS.ffffff` in UTC, whatever its zone, so that text order is the order in time. */
function instantKey(column: Fragment, shifts: readonly Fragment[]): Fragment {
  const fraction = sql`substr(${column}, 21)`;
  const digits = sql`case when substr(${column}, 20, 1) = '.' then substr(${fraction}, 1, length(${fraction}) - length(ltrim(${fraction}, '0123456789'))) else '' end`;
  const seconds = sql`strftime('%Y-%m-%dT%H:%M:%S', ${join([column, ...shifts], ", ")})`;
  return sql`(${seconds} || '.' || substr((${digits}) || '000000', 1, 6))`;
}

/** Year to second, up to six digits of fraction, and a zone. */
function isInstant(column: Fragment): Fragment {
  const zone = sql`ltrim(substr(${column}, 20), '.0123456789')`;
  const shapes = ["Z", "z", "[+-][01][0-9]:[0-5][0-9]"];
  return sql`(${column} glob '[0-9][0-9][0-9][0-9]-[01][0-9]-[0-3][0-9][Tt ][0-2][0-9]:[0-5][0-9]:[0-5][0-9]*' and coalesce(date(substr(${column}, 1, 10)), '') = substr(${column}, 1, 10) and substr(${column}, 12, 2) < '24' and ${anyOf(shapes.map((shape) => sql`${zone} glob ${raw(`'${shape}'`)}`))} and ${instantKey(column, [])} >= '0001')`;
}

function isDecimal(column: Fragment): Fragment {
  const digits = sql`ltrim(cast(${column} as text), '-')`;
  return sql`(typeof(${column}) in ('text', 'integer') and ${digits} not glob '*[^0-9.]*' and ${digits} glob '[0-9]*' and ${digits} not glob '*.' and ${digits} not glob '*.*.*' and cast(${column} as text) not glob '--*')`;
}

/** By sign, then by magnitude: a text that orders as its number does. */
function compareDecimals(op: ComparisonOp, left: Fragment, right: Fragment): Fragment {
  if (op === "=" || op === "<>") return sql`${signed(left)} ${raw(op)} ${signed(right)}`;
  const flipped = { "<": ">", "<=": ">=", ">": "<", ">=": "<=" } as const;
  const atOnce = op === "<" || op === "<=" ? "1 then 1 else 0" : "1 then 0 else 1";
  const sameSign = sql`case when ${isNegative(left)} then ${magnitude(left)} ${raw(flipped[op])} ${magnitude(right)} else ${magnitude(left)} ${raw(op)} ${magnitude(right)} end`;
  return sql`(${left} is not null and ${right} is not null and case when ${isNegative(left)} = ${isNegative(right)} then ${sameSign} else case ${isNegative(left)} when ${raw(atOnce)} end end)`;
}

function signed(value: Fragment): Fragment {
  return sql`(${isNegative(value)} || ${magnitude(value)})`;
}

/** 1 for less than zero, else 0: "-0" is not. */
function isNegative(value: Fragment): Fragment {
  return sql`(${value} glob '-*[1-9]*')`;
}

/** The number of whole digits, the digits, the fraction without the zeros at its end. */
function magnitude(value: Fragment): Fragment {
  const digits = sql`ltrim(${value}, '-')`;
  const whole = sql`ltrim(substr(${digits}, 1, instr(${digits} || '.', '.') - 1), '0')`;
  const fraction = sql`rtrim(substr(${digits}, instr(${digits} || '.', '.') + 1), '0')`;
  return sql`(printf('%06d', length(${whole})) || ${whole} || '.' || ${fraction})`;
}

/** An error about a text that is no JSON would fail the whole statement; such a list has no elements. */
function elements(column: Fragment): Fragment {
  return sql`json_each(case when json_valid(${column}) then ${column} else '[]' end)`;
}

function plainList(list: Fragment): Fragment {
  return sql`(case when ${list} is not null then (select json_group_array(value) from ${elements(list)}) end)`;
}

const elementTypes: Partial<Record<FieldType["base"], string>> = {
  text: "type = 'text'",
  integer: "type = 'integer'",
  boolean: "type in ('true', 'false')",
};

function listFits(type: FieldType, column: Fragment): Fragment {
  const element = type.element as FieldType;
  const holds = elementTypes[element.base];
  const one = element.choices !== undefined || holds === undefined ? sqlite.fits(element, raw("value")) : raw(holds);
  return sql`(case when json_valid(${column}) then json_type(${column}) = 'array' and not exists (select 1 from ${elements(column)} where not (${one ?? raw("true")})) else false end)`;
}
