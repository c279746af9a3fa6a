import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import type { Field, Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Session } from "../session/session.js";
import { sortKeys } from "../session/sort.js";
import type { Dialect } from "./dialect.js";
import { type Fragment, finish, join, raw, type Statement, sql } from "./fragment.js";

/**
 * The order of what a masked select shows, for the `order by` of the statement around it: the fields that are named, each
 * with `-` in front where the greatest comes first, and then the key. Values order as in `session.sort` and in lists over
 * HTTP, on every database: text by code point, decimals by their value, nulls last. An `order by` that is written by hand
 * orders text by the database's own collation, and on SQLite decimals as text.
 *
 * @param options.as The name that the masked select has in the statement.
 * @throws PortierError for a field that is not there, and for a list or json value, which have no order.
 *
 * @example
 * const seen = maskedSelect(session, "objects", postgres);
 * const { text } = order(session, "objects", ["-insured_value"], postgres, { as: "o", first: seen.params.length + 1 });
 * await client.query(`select * from (${seen.text}) o order by ${text}`, seen.params);
 */
export function order<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  table: K,
  sort: readonly string[],
  dialect: Dialect,
  { as, first }: { readonly as: string; readonly first?: number },
): Statement {
  const plan = internals(session).plan;
  return finish(
    orderBy(plan.of(table).table, sort, dialect, as, ({ name }) => name),
    dialect.placeholder,
    first,
  );
}

/**
 * The order of records of a table, or of a masked select of it, by their columns under an alias: the fields that are
 * named, each with `-` in front where the greatest comes first, and then the key, so that it is the same each time. What
 * is null, or does not fit its type, comes last whichever way. Values order as `session.sort` orders them.
 *
 * @throws PortierError for a field that is not there, and for one whose values have no order.
 */
export function orderBy(
  table: Pick<Table, "name" | "byName" | "key">,
  sort: readonly string[],
  dialect: Dialect,
  alias: string,
  nameOf: (field: Field) => string,
): Fragment {
  const terms = sortKeys(table, sort).flatMap(({ field, isDown }) => {
    const column = raw(`${dialect.quoteName(alias)}.${dialect.quoteName(nameOf(field))}`);
    // A key is there wherever its record is; without a question of null its index gives the order.
    if (table.key.includes(field)) return dialect.order(field.type, column, isDown);
    const fits = dialect.fits(field.type, column);
    const value = fits === undefined ? column : sql`case when ${fits} then ${column} end`;
    return [sql`case when ${value} is null then 1 else 0 end`, ...dialect.order(field.type, value, isDown)];
  });
  return join(terms, ", ");
}
