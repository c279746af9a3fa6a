import { isCalendarDay } from "./date.js";
import { type FieldType, fieldType } from "./field-type.js";

const spelling = /^(\d{4})-(\d\d)-(\d\d)[Tt ](\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?(?:[Zz]|([+-])(\d\d):?(\d\d))$/;

/** An instant as `YYYY-MM-DDTHH:MM:SS.ffffffZ`, so that text order is the order in time; undefined when it is none. */
export function canonicalTimestamp(value: unknown): string | undefined {
  if (typeof value !== "string") return undefined;
  const found = spelling.exec(value);
  if (found === null) return undefined;
  const [year = 0, month = 0, day = 0, hour = 0, minute = 0, second = 0] = found
    .slice(1, 7)
    .map((part) => Number(part ?? 0));
  if (!isCalendarDay(year, month, day) || hour > 23 || minute > 59 || second > 59) return undefined;
  const zoneHours = Number(found[9] ?? 0);
  const zoneMinutes = Number(found[10] ?? 0);
  if (zoneHours > 18 || zoneMinutes > 59) return undefined;
  const zone = (found[8] === "-" ? -1 : 1) * (zoneHours * 60 + zoneMinutes);
  const fraction = (found[7] ?? "").padEnd(6, "0");
  const instant = new Date(0);
  instant.setUTCFullYear(year, month - 1, day);
  instant.setUTCHours(hour, minute - zone, second);
  return canonicalInstant(instant, fraction);
}

/** The canonical timestamp of a whole second and six digits of fraction; undefined outside the years 0001 to 9999. */
export function canonicalInstant(instant: Date, fraction: string): string | undefined {
  const year = instant.getUTCFullYear();
  if (Number.isNaN(year) || year < 1 || year > 9999) return undefined;
  return `${instant.toISOString().slice(0, 19)}.${fraction}Z`;
}

/** The canonical timestamp of a Date; undefined for one without an instant, or outside the years 0001 to 9999. */
export function timestampOf(date: Date): string | undefined {
  const time = date.getTime();
  if (Number.isNaN(time)) return undefined;
  const text = date.toISOString();
  // Years outside 0000 to 9999 have a sign and six digits.
  return text.length === 24 && !text.startsWith("0000") ? `${text.slice(0, 23)}000Z` : undefined;
}

/** The instant that lies `minutes` after a canonical timestamp; undefined outside the years 0001 to 9999. */
export function addMinutes(timestamp: string, minutes: number): string | undefined {
  const instant = new Date(`${timestamp.slice(0, 19)}Z`);
  instant.setTime(instant.getTime() + minutes * 60_000);
  return canonicalInstant(instant, timestamp.slice(20, 26));
}

export const timestamp = /* @__PURE__ */ fieldType({
  name: "timestamp",
  noun: "timestamp",
  expects: 'an instant with its zone such as "2027-01-31T09:00:00Z"',
  base: "timestamp",
  canonical: canonicalTimestamp,
  compare: (a, b) => (a === b ? 0 : a < b ? -1 : 1),
  literal: (value) => `timestamp '${value}'`,
});

/** An instant that is stored without its zone, as in a `timestamp` of PostgreSQL: `2027-01-31 09:00:00`, of UTC. */
export const timestampInUtc = /* @__PURE__ */ stored("UTC");

function stored(zone: "UTC"): FieldType {
  return { ...timestamp, zone };
}
