import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import type { Field, Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Session } from "../session/session.js";
import { sortKeys } from "../session/sort.js";
import { type Dialect, isTextual } from "./dialect.js";
import { type Fragment, finish, join, raw, type Statement, sql } from "./fragment.js";

/**
 * The order of what a masked select shows, for the `order by` of the statement around it: the fields that are named, each
 * with `-` in front where the greatest comes first, and then the key. Values order as in `session.sort` and in lists over
 * HTTP, on every database: text by code point, decimals by their value, nulls last. An `order by` that is written by hand
 * orders text by the database's own collation, and on SQLite decimals as text. So does the key here where nobody asks for
 * it: its index gives that order.
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
  const column = ({ name }: Field) => raw(`${dialect.quoteName(as)}.${dialect.quoteName(name)}`);
  return finish(orderBy(plan.of(table).table, sort, dialect, column), dialect.placeholder, first);
}

/**
 * The order of records of a table, or of a masked select of it, by their columns: the fields that are named, each with `-`
 * in front where the greatest comes first, and then the key, so that it is the same each time. What is null, or does not fit
 * its type, comes last whichever way. Values order as `session.sort` orders them; where the key only decides between records
 * that are otherwise alike, texts in it go as the database has them in order, so that the key's index gives it.
 *
 * @throws PortierError for a field that is not there, and for one whose values have no order.
 */
export function orderBy(
  table: Pick<Table, "name" | "byName" | "key">,
  sort: readonly string[],
  dialect: Dialect,
  columnOf: (field: Field) => Fragment,
): Fragment {
  const terms = sortKeys(table, sort).flatMap(({ field, isDown, isAsked }) => {
    const column = columnOf(field);
    // A key is there wherever its record is.
    if (table.key.includes(field)) {
      return isAsked || !isTextual(field.type) ? dialect.order(field.type, column, isDown) : [column];
    }
    const value = orderedColumn(field, column, dialect);
    return [sql`case when ${value} is null then 1 else 0 end`, ...dialect.order(field.type, value, isDown)];
  });
  return join(terms, ", ");
}

/** A column whose values are null where they do not fit its type. */
export function orderedColumn({ type }: Field, column: Fragment, dialect: Dialect): Fragment {
  const fits = dialect.fits(type, column);
  return fits === undefined ? column : sql`case when ${fits} then ${column} end`;
}
