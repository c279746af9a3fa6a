import type { KyselyPlugin } from "kysely";
import type { AnyTables, TableTypes } from "../schema/table-types.js";
import type { Session } from "../session/session.js";
import type { Dialect } from "../sql/dialect.js";
import { type KyselyOptions, Rewriter } from "./kysely-select.js";

export { ChangeRefused, type PortierDialectOptions, portierDialect } from "./kysely-dialect.js";
export type { KyselyOptions } from "./kysely-select.js";

/**
 * A plugin for Kysely with which every select sees what one person sees: each declared table that it reads is replaced by
 * that person's masked select, in joins and subqueries, too, so that its own filters, sorts and counts can learn nothing
 * that is hidden. A hidden value is null. Columns go by their names in the database.
 *
 * What could go past that is refused by a PortierError before it reaches the database: writing statements (a
 * `Kysely` over {@link portierDialect} judges them), tables that the document does not declare, texts of SQL, and
 * functions that are not known to read no table.
 *
 * @example
 * const seen = db.withPlugin(portierPlugin(session, postgres));
 * await seen.selectFrom("objects").select(["title", "insured_value"]).orderBy("insured_value").limit(50).execute();
 */
export function portierPlugin<T extends TableTypes = AnyTables>(
  session: Session<T>,
  dialect: Dialect,
  options: KyselyOptions = {},
): KyselyPlugin {
  const rewriter = new Rewriter(session as Pick<Session, "roles">, dialect, options);
  return {
    transformQuery: ({ node }) => rewriter.root(node) as typeof node,
    transformResult: async ({ result }) => result,
  };
}
