import type { KyselyPlugin } from "kysely";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { Session } from "../session/session.js";
import type { Dialect } from "../sql/dialect.js";
import { type KyselyOptions, Rewriter } from "./kysely-select.js";

export { ChangeRefused, type PortierDialectOptions, portierDialect } from "./kysely-dialect.js";
export type { KyselyOptions } from "./kysely-select.js";
export { kyselyTransaction } from "./kysely-transaction.js";
export type { JoinOptions } from "./transaction.js";

/**
 * A plugin for Kysely with which every select sees what one person sees: each declared table that it reads is replaced by
 * that person's masked select, in joins and subqueries, too, so that its own filters, sorts and counts can learn nothing
 * that is hidden. A hidden value is null. Columns go by their names in the database.
 *
 * What could go past that is refused by a PortierError before it reaches the database: writing statements (a
 * `Kysely` over {@link portierDialect} judges them), tables that the document does not declare, a `with` that is called as
 * a declared table, texts of SQL, and functions that are not known to read no table. A plugin hears of statements that are
 * built: one that was compiled elsewhere (`CompiledQuery.raw`) runs, and only its rows are withheld; `withoutPlugins()`
 * takes the view away. Where others write the statements, use {@link portierDialect}, which lets neither through.
 *
 * @example
 * const seen = db.withPlugin(portierPlugin(session, postgres));
 * await seen.selectFrom("objects").select(["title", "insured_value"]).orderBy("insured_value").limit(50).execute();
 */
export function portierPlugin<T extends DocumentTypes = AnyDocument>(
  session: Session<T>,
  dialect: Dialect,
  options: KyselyOptions = {},
): KyselyPlugin {
  const rewriter = new Rewriter(session, dialect, options);
  const rewritten = new WeakSet<object>();
  return {
    transformQuery: ({ node, queryId }) => {
      rewritten.add(queryId);
      return rewriter.root(node) as typeof node;
    },
    transformResult: async ({ result, queryId }) => {
      if (rewritten.has(queryId)) return result;
      const hint =
        "send what was written with this Kysely; a Kysely over portierDialect lets no other statement through";
      throw portierError("wrong-call", { what: "this statement was not rewritten for the person's view", hint });
    },
  };
}
