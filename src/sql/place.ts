import type { Table } from "../schema/schema.js";

/** A record at hand in a statement: a row of a table under an alias. */
export interface Place {
  readonly table: Table;
  readonly alias: string;
}
