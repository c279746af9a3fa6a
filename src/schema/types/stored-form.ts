import type { Scalar } from "../scalar.js";
import type { FieldType } from "./field-type.js";
import { canonicalInstant, canonicalTimestamp, timestampOf } from "./timestamp.js";

/**
 * A stored value (never null) in the form that its field's type has, whatever the driver made of it: see "Rows as drivers
 * give them" in docs/filters.md. Each other form is read only where it can mean one value of the type alone. Undefined
 * for what fits in no form. What a person gives is held to the type's own form, and never comes here.
 */
export function storedForm(type: FieldType, value: unknown): unknown {
  if (type.fits(value)) return value;
  const other = otherForm(type, value);
  return other !== undefined && type.fits(other) ? other : undefined;
}

/** The canonical form of a stored value (never null); undefined for what fits in no form. */
export function storedValue(type: FieldType, value: unknown): Scalar | undefined {
  const canonical = type.canonical(value);
  if (canonical !== undefined) return canonical;
  const other = otherForm(type, value);
  return other === undefined ? undefined : type.canonical(other);
}

function otherForm(type: FieldType, value: unknown): unknown {
  switch (type.base) {
    case "integer":
      return integerOf(value);
    case "decimal":
      return decimalOf(value);
    case "boolean":
      return booleanOf(value);
    case "date":
      return value instanceof Date ? dayOf(value) : undefined;
    case "timestamp":
      if (value instanceof Date) return timestampOf(value);
      if (typeof value !== "string") return undefined;
      return sentInstant(value) ?? (type.zone === undefined ? undefined : canonicalTimestamp(`${value}Z`));
    case "list":
      return type.element && listOf(type.element, value);
    case "text":
    case "choice":
    case "json":
      return undefined;
    default:
      return type.base satisfies never;
  }
}

/** Drivers hand out 64 bits as text, or as a bigint. */
function integerOf(value: unknown): number | undefined {
  const isSpelled = typeof value === "bigint" || (typeof value === "string" && /^(?:0|-?[1-9]\d*)$/.test(value));
  return isSpelled && Number.isSafeInteger(Number(value)) ? Number(value) : undefined;
}

/** A double holds 15 digits of any decimal without loss; one that takes more was worked out, not stored. */
function decimalOf(value: unknown): string | undefined {
  if (typeof value === "bigint") return String(value);
  if (typeof value !== "number") return undefined;
  if (Number.isSafeInteger(value)) return String(value + 0);
  const size = Math.abs(value);
  return size >= 1e-4 && size < 1e15 && Number(value.toPrecision(15)) === value ? String(value) : undefined;
}

/** 0 and 1; as one byte where the column is a `bit(1)`. */
function booleanOf(value: unknown): boolean | undefined {
  const one = value instanceof Uint8Array && value.length === 1 ? value[0] : value;
  return one === 0 || one === 1 || one === 0n || one === 1n ? Number(one) === 1 : undefined;
}

/**
 * The day that starts at this instant, in local time or in UTC: drivers turn a date into one or the other. Where both
 * hold, it is the same day.
 */
function dayOf(start: Date): string | undefined {
  const time = start.getTime();
  const local = new Date(time);
  local.setHours(0, 0, 0, 0);
  if (local.getTime() !== time) return time % 86_400_000 === 0 ? timestampOf(start)?.slice(0, 10) : undefined;
  const day = new Date(0);
  day.setUTCFullYear(start.getFullYear(), start.getMonth(), start.getDate());
  return timestampOf(day)?.slice(0, 10);
}

const sent = /^(\d{4,6})-(\d\d)-(\d\d) (\d\d):(\d\d):(\d\d)(?:\.(\d{1,6}))?([+-])(\d\d)(?::(\d\d)(?::(\d\d))?)?( BC)?$/;

/**
 * `2027-01-31 12:00:00.5+00`, as PostgreSQL writes an instant. In the connection's time zone the year can lie beyond the
 * calendar, and a place's clock once differed by seconds, too: `+11:39:04`.
 */
function sentInstant(value: string): string | undefined {
  const found = sent.exec(value);
  if (found === null) return undefined;
  const part = (index: number) => Number(found[index] ?? 0);
  const zone = (part(9) * 60 + part(10)) * 60 + part(11);
  const instant = new Date(0);
  instant.setUTCFullYear(found[12] === undefined ? part(1) : 1 - part(1), part(2) - 1, part(3));
  instant.setUTCHours(part(4), part(5), part(6) - (found[8] === "-" ? -zone : zone));
  return canonicalInstant(instant, (found[7] ?? "").padEnd(6, "0"));
}

/** An array, its elements as a driver made them; one that is text; or JSON, whose elements are in their own form. */
function listOf(element: FieldType, value: unknown): unknown {
  if (Array.isArray(value)) return value.map((one) => (one === null ? null : storedForm(element, one)));
  if (typeof value !== "string") return undefined;
  if (value.startsWith("{")) return readArray(value)?.map((one) => (one === null ? null : writtenForm(element, one)));
  try {
    return JSON.parse(value);
  } catch {
    return undefined;
  }
}

function writtenForm(element: FieldType, text: string): unknown {
  if (element.base === "boolean") return text === "t" || text === "f" ? text === "t" : undefined;
  return storedForm(element, text);
}

/**
 * The elements of an array of one dimension as PostgreSQL writes it: `{a,"b c",NULL}`. Drivers know the types of their
 * own alone, and hand out other arrays so. Undefined for anything else, such as an array of two dimensions.
 */
export function readArray(text: string): readonly (string | null)[] | undefined {
  if (!/^\{.*\}$/s.test(text)) return undefined;
  if (text === "{}") return [];
  const elements: (string | null)[] = [];
  const one = /(?:"((?:[^"\\]|\\.)*)"|([^",{}]+))(,|\}$)/sy;
  for (one.lastIndex = 1; one.lastIndex < text.length; ) {
    const found = one.exec(text);
    if (found === null) return undefined;
    const [, quoted, plain = ""] = found;
    elements.push(quoted === undefined ? (plain === "NULL" ? null : plain) : quoted.replace(/\\(.)/gs, "$1"));
  }
  return elements;
}
