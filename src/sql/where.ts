import { actionTree } from "../rules/action-tree.js";
import { actionOf } from "../rules/actions.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { conditionOf } from "../session/conditions.js";
import { internals } from "../session/internals.js";
import type { AnySession } from "../session/open-session.js";
import type { Session } from "../session/session.js";
import type { ActionOf } from "../session/session-types.js";
import { conditionFormula } from "./condition.js";
import type { Dialect } from "./dialect.js";
import { print } from "./formula.js";
import { type Fragment, finish, type Statement } from "./fragment.js";
import { scopeOf } from "./scope.js";

/** How a condition is written. */
export interface WhereOptions {
  /** The name that the table has in the statement. Default: the table's own. */
  readonly as?: string;
  /** The position of the first placeholder, 1-based, where the statement has parameters of its own before. Default: 1. */
  readonly first?: number;
}

/**
 * The records of a table with which a person may do something, as a condition for the `where` of a statement. It is
 * true exactly where `session.may(action, table, record)` is; it may be null where that is false, so do not put it under
 * a `not`.
 *
 * Other tables are read inside the condition: references and `exists` as `exists`, everybody below a person by one
 * recursive query, and what `may` asks as the other table's own rules. The person, their roles and what they hold roles
 * on are parameters.
 *
 * @throws PortierError for a table or action that is not there, and for create and import, which speak of no stored record.
 *
 * @example
 * const { text, params } = where(session, "objects", "list", postgres);
 * // text: "objects"."department" = $1, params: ["ships"]
 * await client.query(`select count(*) from objects where ${text}`, params);
 */
export function where<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  table: K,
  action: ActionOf<T, K>,
  dialect: Dialect,
  options: WhereOptions = {},
): Statement {
  return finish(whereFragment(session, table, action, dialect, options.as), dialect.placeholder, options.first);
}

/** The same, to be put together with other fragments. */
export function whereFragment<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  table: K,
  action: ActionOf<T, K>,
  dialect: Dialect,
  as?: string,
): Fragment {
  const { residual, table: declared, condition } = askedRecords(session, table, action);
  const record = { table: declared, alias: as ?? tableName(declared.source) };
  return print(conditionFormula(condition, scopeOf(dialect, residual, record)));
}

/** The records with which a person may do something, as a condition of a plan that others share. Throws as {@link where} does. */
export function askedRecords(session: AnySession, name: string, action: string) {
  const residual = internals(session);
  const gates = residual.plan.of(name);
  const { table } = gates;
  gates.checkAction(action);
  residual.parts.stated?.(name, action);
  if (actionOf(table, action)?.judges === "new") {
    const hint = "call session.checkCreate with the values of the new record";
    throw portierError("wrong-call", { what: `${action} concerns a new record, and no stored one`, hint });
  }
  return { residual, table, condition: conditionOf(gates, actionTree(table, action, undefined)) };
}

/** A table's name without its schema. */
export function tableName(source: string): string {
  return source.slice(source.lastIndexOf(".") + 1);
}
