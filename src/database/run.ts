import { type Fragment, finish } from "../sql/fragment.js";
import type { Connection, DriverRow } from "./connection.js";

/** Runs a statement that was put together from fragments. */
export function run(connection: Connection, fragment: Fragment): Promise<readonly DriverRow[]> {
  const { text, params } = finish(fragment, connection.dialect.placeholder);
  return connection.query(text, params);
}
