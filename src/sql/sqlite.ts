import { minutesOf } from "../conditions/shift.js";
import type { ComparisonOp } from "../conditions/syntax.js";
import { quoteText } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import { storedForm } from "../schema/types/stored-form.js";
import { canonicalTimestamp } from "../schema/types/timestamp.js";
import { type Dialect, directed, isTextual } from "./dialect.js";
import { allOf, anyOf, type Fragment, join, param, raw, sql } from "./fragment.js";

/**
 * SQLite 3.38 and newer. Columns: `text` for texts, choices, dates (`YYYY-MM-DD`), timestamps (ISO 8601 with zone) and
 * decimals (digits; an integer is one, too, and a real of at most 15 digits, which it holds without loss), `integer` for
 * integers and booleans (0 and 1), `text` with JSON for lists and json values.
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
    if (type.base === "timestamp") return instantKey(withZone(type, column), []);
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
        // date() corrects what is not a day of the calendar, and gives null for what is not a date.
        return sql`(coalesce(date(${column}), '') = ${column} and ${column} >= '0001')`;
      case "timestamp":
        return isInstant(withZone(type, column));
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
    if (type.element !== undefined) return compareLists(op, type.element, left, right);
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
    return type.base === "date"
      ? sql`date(${value}, ${by(amount, "days")})`
      : instantKey(value, [by(amount * minutesOf[unit], "minutes")]);
  },
  order: (type, column, isDown) => {
    const value = sqlite.stored(type, column);
    if (type.base !== "decimal") return [directed(isTextual(type) ? sql`${value} collate binary` : value, isDown)];
    // Of two that are less than zero the greater magnitude comes first.
    const negative = isNegative(value);
    return [
      directed(negative, !isDown),
      directed(sql`case when ${negative} then ${magnitude(value)} end`, !isDown),
      directed(sql`case when not ${negative} then ${magnitude(value)} end`, isDown),
    ];
  },
  contains: (list, column, element) => {
    const equal = sqlite.compare("=", elementOf(list), sqlite.stored(elementOf(list), raw("value")), element);
    return sql`exists (select 1 from ${elements(column)} where ${equal})`;
  },
  // Not "decimal": SQLite would make inexact numbers of what stands in such a column.
  columnType: ({ base }) => (["integer", "boolean", "date", "timestamp"].includes(base) ? base : "text"),
  // A key of one integer does so by itself.
  literal: quoteText,
  numbering: "",
  decode: (type, value) => {
    if (value === null) return null;
    return type.base === "json" ? parsed(value) : (storedForm(type, value) ?? value);
  },
  encode: (type, value) => {
    if (typeof value === "boolean" && type.base === "boolean") return value ? 1 : 0;
    // As the database's own functions write an instant.
    if (type.zone !== undefined) return canonicalTimestamp(value)?.slice(0, 26).replace("T", " ") ?? value;
    return type.base === "list" || type.base === "json" ? JSON.stringify(value) : value;
  },
  fence: "limit -1 offset 0",
  asText: (integer) => sql`cast(${integer} as text)`,
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
/** A text that holds no zone, with the one that its field says. */
function withZone({ zone }: FieldType, column: Fragment): Fragment {
  if (zone === undefined) return column;
  return sql`(case when substr(${column}, 12) glob '*[Zz+-]*' then ${column} else ${column} || 'Z' end)`;
}

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
  const isExact = sql`(typeof(${column}) in ('text', 'integer') or typeof(${column}) = 'real' and cast(printf('%!.15g', ${column}) as real) = ${column})`;
  return sql`(${isExact} and ${digits} not glob '*[^0-9.]*' and ${digits} glob '[0-9]*' and ${digits} not glob '*.' and ${digits} not glob '*.*.*' and cast(${column} as text) not glob '--*')`;
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

/** An error about a text that is not JSON would fail the whole statement; such a list has no elements. */
function elements(column: Fragment): Fragment {
  return sql`json_each(case when json_valid(${column}) then ${column} else '[]' end)`;
}

function elementOf({ element, noun }: FieldType): FieldType {
  if (element === undefined) throw new TypeError(`${noun} is not a list`);
  return element;
}

/** As long, and equal at each place. Null where one of them is. */
function compareLists(op: ComparisonOp, element: FieldType, left: Fragment, right: Fragment): Fragment {
  const values = [raw("l.value"), raw("r.value")].map((value) => sqlite.stored(element, value));
  const isEqual = sqlite.compare("=", element, ...(values as [Fragment, Fragment]));
  const differing = sql`select 1 from ${elements(left)} l join ${elements(right)} r on l.key = r.key where (${isEqual}) is not true`;
  const length = (list: Fragment) => sql`(select count(*) from ${elements(list)})`;
  const equal = sql`(${length(left)} = ${length(right)} and not exists (${differing}))`;
  return sql`case when ${left} is not null and ${right} is not null then ${equal} = ${raw(op === "=" ? "1" : "0")} end`;
}

/** The types that JSON has of its own; of all others a list holds texts. */
const elementTypes: Partial<Record<FieldType["base"], string>> = {
  integer: "type = 'integer'",
  boolean: "type in ('true', 'false')",
};

function listFits(type: FieldType, column: Fragment): Fragment {
  const element = elementOf(type);
  const own = elementTypes[element.base];
  const fits = own === undefined ? sqlite.fits(element, raw("value")) : undefined;
  const one = allOf([raw(own ?? "type = 'text'"), ...(fits === undefined ? [] : [fits])]);
  return sql`(case when json_valid(${column}) then json_type(${column}) = 'array' and not exists (select 1 from ${elements(column)} where not ${one}) else false end)`;
}
