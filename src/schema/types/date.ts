import { fieldType } from "./field-type.js";

/** Whether year, month and day name a day of the (proleptic Gregorian) calendar, years 0001 to 9999. */
export function isCalendarDay(year: number, month: number, day: number): boolean {
  if (year < 1 || month < 1 || month > 12 || day < 1) return false;
  if (day <= 28) return true;
  const leap = (year % 4 === 0 && year % 100 !== 0) || year % 400 === 0;
  const length = month === 2 ? (leap ? 29 : 28) : month === 4 || month === 6 || month === 9 || month === 11 ? 30 : 31;
  return day <= length;
}

function digits(value: string, from: number, to: number): number {
  let number = 0;
  for (let i = from; i < to; i++) {
    const digit = value.charCodeAt(i) - 48;
    if (digit < 0 || digit > 9) return Number.NaN;
    number = number * 10 + digit;
  }
  return number;
}

/** The value itself when it is a day as `YYYY-MM-DD`. Read digit by digit: it stands in the path of every mask. */
export function canonicalDate(value: unknown): string | undefined {
  if (typeof value !== "string" || value.length !== 10 || value[4] !== "-" || value[7] !== "-") return undefined;
  return isCalendarDay(digits(value, 0, 4), digits(value, 5, 7), digits(value, 8, 10)) ? value : undefined;
}

/** The day that lies `days` after `date` (before it when negative); undefined outside the years 0001 to 9999. */
export function addDays(date: string, days: number): string | undefined {
  const moved = new Date(`${date}T00:00:00Z`);
  moved.setUTCDate(moved.getUTCDate() + days);
  return Number.isNaN(moved.getTime()) ? undefined : canonicalDate(moved.toISOString().slice(0, 10));
}

const localTime = new Map<string, Intl.DateTimeFormat>();

/** The wall clock of an instant in a time zone, as if it were UTC: milliseconds since 1970. */
function wallClock(instant: number, timeZone: string): number {
  let format = localTime.get(timeZone);
  if (format === undefined) {
    format = new Intl.DateTimeFormat("en-US", {
      timeZone,
      calendar: "iso8601",
      hourCycle: "h23",
      year: "numeric",
      month: "2-digit",
      day: "2-digit",
      hour: "2-digit",
      minute: "2-digit",
      second: "2-digit",
    });
    localTime.set(timeZone, format);
  }
  const parts = new Map(format.formatToParts(new Date(instant)).map(({ type, value }) => [type, Number(value)]));
  const part = (name: Intl.DateTimeFormatPartTypes) => parts.get(name) ?? 0;
  const local = new Date(0);
  local.setUTCFullYear(part("year"), part("month") - 1, part("day"));
  local.setUTCHours(part("hour"), part("minute"), part("second"));
  return local.getTime();
}

/** The day that was asked for last in a time zone, and its bounds: sessions are opened many times on one day. */
const lastDays = new Map<string, { readonly day: string; readonly from: number; readonly to: number }>();

/** The calendar day of an instant (milliseconds since 1970) in a time zone. */
export function dayIn(instant: number, timeZone: string): string {
  const last = lastDays.get(timeZone);
  if (last !== undefined && last.from <= instant && instant < last.to) return last.day;
  const day = localDay(instant, timeZone);
  const next = addDays(day, 1);
  if (next !== undefined) {
    const at = (start: string) => Date.parse(`${start.slice(0, 19)}Z`);
    lastDays.set(timeZone, { day, from: at(startOfDay(day, timeZone)), to: at(startOfDay(next, timeZone)) });
  }
  return day;
}

function localDay(instant: number, timeZone: string): string {
  return new Date(wallClock(instant, timeZone)).toISOString().slice(0, 10);
}

/**
 * The first instant of a day in a time zone, as a canonical timestamp. Where clocks are put forward at midnight, that is
 * when they say the first minute there is.
 */
export function startOfDay(day: string, timeZone: string): string {
  const midnight = new Date(`${day}T00:00:00Z`).getTime();
  const offsetAt = (instant: number) => wallClock(instant, timeZone) - instant;
  const first = midnight - offsetAt(midnight);
  const second = midnight - offsetAt(first);
  const start = localDay(second, timeZone) === day ? second : Math.max(first, second);
  return `${new Date(start).toISOString().slice(0, 19)}.000000Z`;
}

export const date = /* @__PURE__ */ fieldType({
  name: "date",
  noun: "date",
  expects: 'a date such as "2027-01-31"',
  base: "date",
  canonical: canonicalDate,
  compare: (a, b) => (a === b ? 0 : a < b ? -1 : 1),
  literal: (value) => `date '${value}'`,
});
