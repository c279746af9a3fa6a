import { type SQL, sql } from "drizzle-orm";
import type { Connection, DriverRow } from "../database/connection.js";
import type { Dialect } from "../sql/dialect.js";
import { type JoinOptions, joined } from "./transaction.js";
import { errorsOf, standingIn } from "./transaction-dialects.js";

/** What this needs of a transaction of Drizzle: `execute` of PostgreSQL and MySQL, `all` of SQLite. */
export interface DrizzleTransaction {
  execute?(statement: SQL): PromiseLike<unknown>;
  all?(statement: SQL): unknown;
}

/**
 * A transaction of Drizzle that the application has begun: the object that `db.transaction` hands to its work. What the
 * database layer does becomes a part of it: committed or rolled back with it, and what is refused or fails leaves nothing behind.
 *
 * @throws PortierError (`wrong-call`), at the first statement, where it is not serializable
 * (`db.transaction(work, { isolationLevel: "serializable" })`), unless `isolation` says that it may be.
 */
export function drizzleTransaction(
  transaction: DrizzleTransaction,
  dialect: Dialect,
  options: JoinOptions = {},
): Connection {
  const query = async (text: string, params: readonly unknown[]) => {
    const statement = statementOf(text, params);
    const answer = await (transaction.execute?.(statement) ?? transaction.all?.(statement));
    return rowsOf(answer);
  };
  return joined({ dialect, query, ...errorsOf(dialect) }, standingIn(dialect), options);
}

/** `{ rows }` of `pg`, the rows and their columns of `mysql2`, else the rows. */
function rowsOf(answer: unknown): readonly DriverRow[] {
  if (!Array.isArray(answer)) return ((answer as { rows?: DriverRow[] } | undefined)?.rows ?? []) as DriverRow[];
  return (Array.isArray(answer[0]) ? answer[0] : answer) as DriverRow[];
}

/** A statement with its values in the places of `$1` or `?`; none stands inside what is quoted. */
function statementOf(text: string, params: readonly unknown[]): SQL {
  const pieces: SQL[] = [];
  let position = 0;
  let from = 0;
  const places = /'(?:[^']|'')*'|"(?:[^"]|"")*"|`(?:[^`]|``)*`|\$(\d+)|\?/g;
  for (const found of text.matchAll(places)) {
    const isPlace = found[0] === "?" || found[1] !== undefined;
    if (!isPlace) continue;
    pieces.push(sql.raw(text.slice(from, found.index)));
    const index = found[1] === undefined ? position++ : Number(found[1]) - 1;
    pieces.push(sql`${sql.param(params[index])}`);
    from = found.index + found[0].length;
  }
  pieces.push(sql.raw(text.slice(from)));
  return sql.join(pieces);
}
