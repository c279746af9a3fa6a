import { minutesOf } from "../conditions/shift.js";
import type { ComparisonOp } from "../conditions/syntax.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import { storedForm } from "../schema/types/stored-form.js";
import { canonicalTimestamp } from "../schema/types/timestamp.js";
import { type Dialect, directed, escapeLike, isTextual } from "./dialect.js";
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
    if (type.element !== undefined) return compareLists(op, type.element, left, right);
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
    return sql`(${value} + interval ${raw(interval)})`;
  },
  order: (type, column, isDown) => [directed(isTextual(type) ? exactly(column) : column, isDown)],
  contains: (list, column, element) => {
    const type = elementOf(list);
    const equal = mariadb.compare("=", type, elementValue(type, raw("e.v")), element);
    return sql`exists (select 1 from ${elements(column)} e where ${equal})`;
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
    if (value === null) return null;
    if (type.base === "json") return typeof value === "string" ? parsed(value) : value;
    // Without a zone, as everything here is in UTC.
    if (type.base === "timestamp" && typeof value === "string") return canonicalTimestamp(`${value}Z`) ?? value;
    return storedForm(type, value) ?? value;
  },
  encode: (type, value) => {
    if (value === null) return value;
    if (type.base === "list" || type.base === "json") return JSON.stringify(value);
    const instant = type.base === "timestamp" ? canonicalTimestamp(value) : undefined;
    return instant === undefined ? value : instant.slice(0, 26).replace("T", " ");
  },
  fence: "limit 18446744073709551615",
  asText: (integer) => sql`cast(${integer} as char character set utf8mb4)`,
  text: (value) => sql`cast(${param(value)} as char)`,
  listed: (texts) => sql`concat_ws(',', ${join(texts, ", ")})`,
};

const columnTypes: Readonly<Record<FieldType["base"], string>> = {
  text: "text",
  choice: "text",
  integer: "bigint",
  decimal: "decimal(65, 30)",
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

/**
 * Wide enough for the value: a cast to fewer digits would round it.
 *
 * @throws PortierError for more digits than the database compares exactly.
 */
function decimalOf(value: Scalar): string {
  const [whole = "", fraction = ""] = String(value).replace("-", "").split(".");
  if (whole.length + fraction.length > 65 || fraction.length > 38) {
    const what = `a decimal of ${whole.length + fraction.length} digits is more than MariaDB compares exactly`;
    throw portierError("wrong-call", { what, hint: "it has 65 digits, 38 of them behind the point" });
  }
  return `decimal(${Math.max(1, whole.length + fraction.length)}, ${fraction.length})`;
}

function elementOf({ element, noun }: FieldType): FieldType {
  if (element === undefined) throw new TypeError(`${noun} is not a list`);
  return element;
}

/** An error about a text that is not JSON would fail the whole statement; such a list has no elements. */
function elements(column: Fragment): Fragment {
  const v = "v longtext character set utf8mb4 collate utf8mb4_nopad_bin path '$'";
  return sql`json_table(case when json_valid(${column}) then ${column} else '[]' end, '$[*]' columns (n for ordinality, ${raw(v)}))`;
}

/** The text of an element in the form in which values of its type compare. */
function elementValue(type: FieldType, text: Fragment): Fragment {
  switch (type.base) {
    case "boolean":
      return sql`(${text} in ('1', 'true'))`;
    case "integer":
      return sql`cast(${text} as signed)`;
    case "decimal":
      return sql`cast(${text} as decimal(65, 30))`;
    case "date":
      return sql`cast(${text} as date)`;
    case "timestamp":
      return instantOf(text);
    default:
      return text;
  }
}

/** An instant as ISO 8601 has it, in whatever zone, as a `datetime` in UTC. */
function instantOf(text: Fragment): Fragment {
  const local = sql`cast(concat(left(${text}, 10), ' ', regexp_substr(substr(${text}, 12), '^[0-9:.]+')) as datetime(6))`;
  const zone = sql`regexp_substr(${text}, '[+-][0-9]{2}:?[0-9]{2}$')`;
  const offset = sql`concat(left(${zone}, 3), ':', right(${zone}, 2))`;
  return sql`case when ${zone} = '' then ${local} else convert_tz(${local}, ${offset}, '+00:00') end`;
}

/** As long, and equal at each place. Null where one of them is. */
function compareLists(op: ComparisonOp, element: FieldType, left: Fragment, right: Fragment): Fragment {
  const values = [raw("l.v"), raw("r.v")].map((value) => elementValue(element, value));
  const isEqual = mariadb.compare("=", element, ...(values as [Fragment, Fragment]));
  const differing = sql`select 1 from ${elements(left)} l join ${elements(right)} r on l.n = r.n where (${isEqual}) is not true`;
  const length = (list: Fragment) => sql`(select count(*) from ${elements(list)} e)`;
  const equal = sql`(${length(left)} = ${length(right)} and not exists (${differing}))`;
  return sql`case when ${left} is not null and ${right} is not null then ${equal} = ${raw(op === "=" ? "1" : "0")} end`;
}

/** What one element looks like in JSON, by its type; a text where nothing else is said. */
const elementPatterns: Partial<Record<FieldType["base"], string>> = {
  integer: "-?\\d+",
  boolean: "(?:true|false)",
  decimal: '"-?\\d+(?:\\.\\d+)?"',
  date: '"\\d{4}-\\d\\d-\\d\\d"',
  timestamp: '"\\d{4}-\\d\\d-\\d\\d[Tt ]\\d\\d:\\d\\d(?::\\d\\d(?:\\.\\d{1,6})?)?(?:[Zz]|[+-]\\d\\d:?\\d\\d)"',
};

/** An array without nulls and without lists in it, each element of the type; by its text, which tells their JSON types. */
function listFits(type: FieldType, column: Fragment): Fragment {
  const element = elementOf(type);
  const one = elementPatterns[element.base] ?? '"(?:[^"\\\\]|\\\\.)*+"';
  const array = `^\\s*\\[\\s*(?:${one}\\s*(?:,\\s*${one}\\s*)*+)?\\]\\s*$`;
  const shape = sql`${column} regexp ${param(array)}`;
  const fits = element.base === "date" || element.base === "timestamp" || element.choices !== undefined;
  if (!fits) return sql`(${shape})`;
  const isRight = mariadb.fits(element, elementValue(element, raw("e.v"))) ?? raw("true");
  const misfits = sql`exists (select 1 from ${elements(column)} e where (${isRight}) is not true)`;
  return sql`(case when ${shape} then not ${misfits} else false end)`;
}
