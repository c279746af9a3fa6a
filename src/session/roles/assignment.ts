import type { Row } from "../../conditions/source.js";
import { storedValue } from "../../schema/types/stored-form.js";
import { timestamp } from "../../schema/types/timestamp.js";

/** A role that was assigned to a person, as it is stored. */
export interface Assignment {
  readonly id: string;
  /** The person's key. */
  readonly person: string | number;
  readonly role: string;
  /** The address of the record that a scoped role is held on. */
  readonly on: string | null;
  /** It counts while `from <= now < until`; instants, null for no end. */
  readonly from: string | null;
  /** The instant from which it no longer counts; null for no end. */
  readonly until: string | null;
  /** The key of who gave it, as text; null where it was not given by a person. */
  readonly assignedBy: string | null;
  /** Why, in the words of who assigned it. */
  readonly reason: string | null;
}

/** Lets one person act for another for a time, as it is stored. */
export interface Delegation {
  readonly id: string;
  /** The key of the one for whom somebody acts. */
  readonly of: string | number;
  /** The key of the one who acts. */
  readonly to: string | number;
  readonly from: string | null;
  readonly until: string | null;
  /** Roles of the one that the other does not act in. */
  readonly without: readonly string[] | null;
  readonly assignedBy: string | null;
  readonly reason: string | null;
}

/** When something stored begins, or ends; null where it does not, and where it cannot be read. */
export function instantIn(row: Row, name: "from" | "until"): string | null {
  return (storedValue(timestamp, row[name]) as string | undefined) ?? null;
}

export function assignmentOf(row: Row): Assignment {
  return row as unknown as Assignment;
}

export function delegationOf(row: Row): Delegation {
  return row as unknown as Delegation;
}
