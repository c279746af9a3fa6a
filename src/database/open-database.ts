import type { AnyTables, TableTypes } from "../schema/table-types.js";
import type { Portier } from "../session/portier.js";
import { Acting } from "./acting.js";
import type { Connection } from "./connection.js";
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
): Database<T> {
  return { as: (person, options = {}) => new Acting(portier, connection, person, options) };
}

export interface Database<T extends TableTypes = AnyTables> {
  /** Who acts: the key of a person, or null for a visitor. */
  as(person: string | number | null, options?: ActingOptions): Acting<T>;
}
