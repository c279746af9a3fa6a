import type { Field } from "../schema/schema.js";
import { type Fragment, join, sql } from "./fragment.js";
import type { Place } from "./place.js";

/** A record that a reference leads to, in the same row of a statement; all of it is null where it is not there. */
export interface JoinedRecord {
  readonly place: Place;
  /** Whether it is there. */
  readonly isThere: Fragment;
  readonly join: Fragment;
}

/**
 * The records that a statement's own record leads to through references, each joined once: what many columns ask of them is
 * asked of columns. A reference leads to one record at most, so there are as many rows as without; databases leave a join
 * out of which nothing is used.
 */
export class JoinedPaths {
  readonly #records = new Map<string, JoinedRecord>();
  readonly #aliases: Set<string>;

  /** `root`: the alias of the statement's own record. */
  constructor(root: string) {
    this.#aliases = new Set([root]);
  }

  /** Whether a record is among the statement's tables. */
  has({ alias }: Place): boolean {
    return this.#aliases.has(alias);
  }

  /** The record that a reference of such a record leads to; `make` joins it under an alias. */
  step(from: Place, reference: Field, make: (alias: string) => JoinedRecord): JoinedRecord {
    const id = `${from.alias} ${reference.name}`;
    const known = this.#records.get(id);
    if (known !== undefined) return known;
    let number = this.#aliases.size;
    const taken = new Set([...this.#aliases].map((alias) => alias.toLowerCase()));
    while (taken.has(`j${number}`)) number++;
    const made = make(`j${number}`);
    this.#records.set(id, made);
    this.#aliases.add(made.place.alias);
    return made;
  }

  /** The joins that a text needs, in their order: what was simplified away needs none. */
  joinsFor(text: Fragment, quoteName: (name: string) => string): Fragment {
    let needed: Fragment = [];
    for (const { place, join: joined } of [...this.#records.values()].reverse()) {
      const start = `${quoteName(place.alias)}.`;
      const isUsed = [...text, ...needed].some((piece) => typeof piece === "string" && piece.includes(start));
      if (isUsed) needed = [...joined, ...needed];
    }
    return needed;
  }
}

/** `left join "staff" "j1" on "j1"."id" = "objects"."keeper"`, with a blank before it. */
export function leftJoin(table: Fragment, links: readonly Fragment[]): Fragment {
  return sql` left join ${table} on ${join(links, " and ")}`;
}
