import type { AnyTables, TableTypes } from "../schema/table-types.js";
import type { Portier } from "../session/portier.js";
import { Acting } from "./acting.js";
import type { Connection } from "./connection.js";
import { KeptLists } from "./kept-lists.js";
import { checkObserving, type Observe } from "./observing.js";
import type { ActingOptions } from "./work.js";

/**
 * A document's tables as a database holds them, under the names that `source` and `column` give.
 *
 * @example
 * const database = openDatabase(portier, pgConnection(pool));
 * const outcome = await database.as("s-003").edit("objects", "BM-SH-0001", { label: "Rung." });
 * if (!outcome.accepted) console.log(outcome.refusals);
 */
export function openDatabase<T extends TableTypes = AnyTables>(
  portier: Portier<T>,
  connection: Connection,
  { observe }: DatabaseOptions = {},
): Database<T> {
  const observing = checkObserving(portier.schema, observe);
  const kept = new KeptLists();
  return { as: (person, options = {}) => new Acting(portier, connection, person, options, kept, observing) };
}

export interface DatabaseOptions {
  /**
   * Told what would have been refused or hidden of the tables that the document observes (`observe: true`). Needed where it
   * observes any. It is called before a change is committed, once more where that is begun anew; what it throws undoes it.
   */
  readonly observe?: Observe;
}

export interface Database<T extends TableTypes = AnyTables> {
  /** Who acts: the key of a person, or null for a visitor. */
  as(person: string | number | null, options?: ActingOptions): Acting<T>;
}
