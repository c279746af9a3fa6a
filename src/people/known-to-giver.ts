import { splitAddress } from "../schema/address.js";
import type { Giving } from "../session/roles/giving.js";
import { refuse } from "../session/roles/refusal.js";

/** A record that is hidden from whoever makes a change is as one that is not there. */
export function mustKnow(giving: Giving, table: string, key: string): void {
  const row = giving.source.find(table, key);
  const isListed = row !== undefined && giving.knows(table, row);
  if (!isListed) refuse("no-such-record", { table, name: key });
}

/** The key of a person whom they know of; others are as those that there are not. */
export function personKey(giving: Giving, person: string): string | number {
  const { table, key } = giving.people;
  const row = giving.source.find(table.name, person);
  const isKnown = row !== undefined && (person === giving.giver.person || giving.knows(table.name, row));
  const [value] = splitAddress([key.type], person) ?? [];
  if (isKnown && (typeof value === "string" || typeof value === "number")) return value;
  // Nobody's key is hinted at: to find the nearest, everybody would have to be read.
  return refuse("unknown-person", { name: person, candidates: [] });
}
