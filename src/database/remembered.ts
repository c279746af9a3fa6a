import type { Schema } from "../schema/schema.js";
import type { Identity } from "../session/identity.js";
import { Recent } from "../session/recent.js";
import { KeptLists } from "./kept-lists.js";
import type { Held, Read } from "./records.js";

/** How many people's sessions are remembered, and how many records of one at most. */
const [mostPeople, mostRecords] = [1_000, 200];

/**
 * What is kept from one call to the next, so that the database is asked less often. Nothing of it counts before the
 * database has said, in the statement that answers, that it is still so.
 */
export class Remembered {
  /** What is protected. */
  readonly kept = new KeptLists();
  /** The kinds of questions that need more than a few statements. */
  readonly long = new Set<string>();
  readonly #openings = new Recent<readonly Held[]>(mostPeople);

  /** What was read when the person's session was opened last; undefined where it was not, of late. */
  opening(identity: Identity): readonly Held[] | undefined {
    return this.#openings.get(idOf(identity));
  }

  setOpening(identity: Identity, read: readonly Held[]): void {
    // What is protected is one list for everybody, however long.
    const own = read.filter(({ rows }) => !Object.isFrozen(rows));
    const count = own.reduce((all, { rows }) => all + rows.length, 0);
    if (count <= mostRecords) this.#openings.set(idOf(identity), read);
  }
}

/** What is read, as far as the document tells, when a person's session is opened: the person, and what gives them their roles. */
export function openingReads({ people }: Schema, { person, actedBy }: Identity): readonly Read[] {
  if (people === undefined) return [];
  return [person, actedBy].flatMap((one): readonly Read[] => {
    if (one === null || one === undefined) return [];
    const key = String(one);
    const links = people.roles.filter((source) => source.kind === "link");
    return [
      { kind: "find", table: people.table.name, key },
      ...links.map((link): Read => ({ kind: "referring", table: link.table.name, field: link.person.name, key })),
    ];
  });
}

function idOf({ person, actedBy }: Identity): string {
  return JSON.stringify([person, actedBy]);
}
