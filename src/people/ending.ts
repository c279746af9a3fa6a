import type { Row } from "../conditions/source.js";
import { addMinutes } from "../schema/types/timestamp.js";

/** Something given that ends soon. */
export interface Ending {
  /** A canonical instant. */
  readonly until: string;
  /** The key of the one who holds a role, or who acts for another. */
  readonly person: string;
  /** The role, with the record that it is held on; or whom they act for. */
  readonly what: string;
  readonly assignedBy: string | undefined;
}

const minutesOfDay = 24 * 60;

/** The assignments and delegations that end within some days from an instant, the next one first. */
export function endingSoon(
  { assignments, delegations }: { readonly assignments: readonly Row[]; readonly delegations: readonly Row[] },
  now: string,
  days: number,
): Ending[] {
  const last = addMinutes(now, days * minutesOfDay) ?? "9999";
  const text = (value: unknown) => (value === null || value === undefined ? undefined : String(value));
  const found = [
    ...assignments.map((row) => ({
      row,
      person: String(row["person"]),
      what: `${row["role"]}${row["on"] === null ? "" : ` of ${row["on"]}`}`,
    })),
    ...delegations.map((row) => ({ row, person: String(row["to"]), what: `acts for ${row["of"]}` })),
  ].flatMap(({ row, person, what }): Ending[] => {
    const until = text(row["until"]);
    const isSoon = until !== undefined && now < until && until <= last;
    return isSoon ? [{ until, person, what, assignedBy: text(row["assignedBy"]) }] : [];
  });
  return found.sort((a, b) => (a.until < b.until ? -1 : a.until > b.until ? 1 : 0));
}
