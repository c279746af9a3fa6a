import { splitAddress } from "../schema/address.js";
import type { AssignmentContext } from "../session/roles/assignment-context.js";
import { refuse } from "../session/roles/refusal.js";

/** A record that is hidden from whoever makes a change is as one that is not there. */
export function mustKnow(context: AssignmentContext, table: string, key: string): void {
  const row = context.source.find(table, key);
  const isListed = row !== undefined && context.knows(table, row);
  if (!isListed) refuse("no-such-record", { table, name: key });
}

/** The key of a person whom they know of; others are as those that there are not. */
export function personKey(context: AssignmentContext, person: string): string | number {
  const { table, key } = context.people;
  const row = context.source.find(table.name, person);
  const isKnown = row !== undefined && (person === context.assigner.person || context.knows(table.name, row));
  const [value] = splitAddress([key.type], person) ?? [];
  if (isKnown && (typeof value === "string" || typeof value === "number")) return value;
  // Nobody's key is hinted at: to find the nearest, everybody would have to be read.
  return refuse("unknown-person", { name: person, candidates: [] });
}
