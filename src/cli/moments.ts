import type { Schema } from "../schema/schema.js";
import { dayIn, startOfDay } from "../schema/types/date.js";

/** A canonical instant as people wrote it: a day that begins then in the document's time zone, or a time in UTC. */
export function momentText({ timeZone }: Schema, instant: string): string {
  const day = dayIn(Date.parse(instant), timeZone);
  return startOfDay(day, timeZone) === instant ? day : `${instant.slice(0, 16).replace("T", " ")} UTC`;
}
