import { portierError } from "./problems.js";
import type { Schema } from "./schema.js";
import { canonicalDate, dayIn, startOfDay } from "./types/date.js";
import { canonicalTimestamp } from "./types/timestamp.js";

/** What an instant is written as, for messages. */
export const instantExpects = 'a date such as "2027-01-31" or an instant with its zone';

/** The instant of a date (its start in the document's time zone) or of an instant; undefined for what is neither. */
export function readInstant({ timeZone }: Pick<Schema, "timeZone">, value: string): string | undefined {
  const day = canonicalDate(value);
  return day === undefined ? canonicalTimestamp(value) : startOfDay(day, timeZone);
}

/**
 * How an instant is stored: an instant as it is, a date as its start in the document's time zone.
 *
 * @throws PortierError (`bad-value`) for anything else.
 */
export function instantOf(schema: Schema, field: string, value: string | null | undefined): string | null {
  if (value === null || value === undefined) return null;
  const instant = readInstant(schema, value);
  if (instant !== undefined) return instant;
  throw portierError("bad-value", { field, expects: instantExpects, found: value });
}

/** A canonical instant as people wrote it: a day that begins then in the document's time zone, or a time in UTC. */
export function formatInstant({ timeZone }: Pick<Schema, "timeZone">, instant: string): string {
  const day = dayIn(Date.parse(instant), timeZone);
  return startOfDay(day, timeZone) === instant ? day : `${instant.slice(0, 16).replace("T", " ")} UTC`;
}
