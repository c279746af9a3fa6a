import type { FieldType } from "./field-type.js";

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

export const date: FieldType = {
  name: "date",
  label: "date",
  expects: 'a date such as "2027-01-31"',
  base: "date",
  canonical: canonicalDate,
  compare: (a, b) => (a === b ? 0 : a < b ? -1 : 1),
  literal: (value) => `date '${value}'`,
};
