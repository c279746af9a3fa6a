import type { Dialect } from "../sql/dialect.js";
import { raw } from "../sql/fragment.js";
import type { Connection, DriverRow } from "./connection.js";
import type { Select } from "./together.js";

// One row that counts the changes of what anybody may do. Whoever reads it along with an answer knows how new that is.

/** The statements that make it; they can be run again. */
export function createState(dialect: Dialect, key: string): string[] {
  const one = dialect.quoteName("portier_state");
  return [
    `create table if not exists ${one} (one integer primary key check (one = 1), version bigint not null, head ${key} not null)`,
    `insert into ${one} (one, version, head) select 1, 0, '' where not exists (select 1 from ${one})`,
  ];
}

/** How many changes there were: told with the answer of the statement that it is a part of. */
export const versionSelect: Select = { text: raw("select version from portier_state"), columns: ["version"] };

/** @throws Error where there is no such row: then nobody knows how old an answer is. */
export function versionFrom([row]: readonly DriverRow[]): bigint {
  if (row === undefined) throw new Error("portier_state holds no row: run the statements of storeMigration again");
  return BigInt(String(row["version"]));
}

export async function versionOf(connection: Connection): Promise<bigint> {
  return versionFrom(await connection.query("select version from portier_state", []));
}
