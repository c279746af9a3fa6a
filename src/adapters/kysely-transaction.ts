import { CompiledQuery, type Transaction } from "kysely";
import type { Connection, DriverRow } from "../database/connection.js";
import type { Dialect } from "../sql/dialect.js";
import { type JoinOptions, joined } from "./transaction.js";
import { errorsOf, standingIn } from "./transaction-dialects.js";

/**
 * A transaction of Kysely that the application has begun. What the database layer does becomes a part of it: committed or
 * rolled back with it, and what is refused or fails leaves nothing behind.
 *
 * Values come as Kysely's driver is set to give them: where it makes a `Date` of an instant, conditions see it to the
 * millisecond. The transaction must be one without plugins that change statements or rows.
 *
 * @throws PortierError (`wrong-call`), at the first statement, where it is not serializable
 * (`db.transaction().setIsolationLevel("serializable")`), unless `isolation` says that it may be.
 */
export function kyselyTransaction(
  // biome-ignore lint/suspicious/noExplicitAny: a transaction of any database's tables
  transaction: Transaction<any>,
  dialect: Dialect,
  options: JoinOptions = {},
): Connection {
  const query = async (text: string, params: readonly unknown[]) =>
    (await transaction.executeQuery(CompiledQuery.raw(text, [...params]))).rows as DriverRow[];
  return joined({ dialect, query, ...errorsOf(dialect) }, standingIn(dialect), options);
}
