import type { Source } from "../../conditions/source.js";
import { PortierError } from "../../schema/problems.js";
import { type StoredWrite, withWrites } from "../overlay.js";
import type { MakeRoleGuard } from "../session-parts.js";
import { AssignmentContext } from "./assignment-context.js";
import { roleBearing } from "./bearing.js";
import { refusalOf } from "./refusal.js";
import { checkSettings } from "./setting-changes.js";
import { StateChecks } from "./state-checks.js";

/**
 * Judges changes of records that roles come from, as the assignments and revocations that they are: who may assign, roles
 * that exclude each other, the last holders of a role, acting for somebody, a widening of one's own rights.
 */
export const roleGuard: MakeRoleGuard = (opener, openedFor, { actedBy, request }) => {
  const { ruleset } = opener;
  const bearing = roleBearing(ruleset);
  if (bearing.size === 0) return undefined;
  const judge = (source: Source, write: StoredWrite) => {
    const { key, now, memberships } = openedFor();
    const assigner = {
      person: key === null || key === undefined ? "" : String(key),
      actedBy: actedBy === undefined ? undefined : String(actedBy),
      now,
      request,
      confirmed: [],
    };
    const context = new AssignmentContext(opener, source, assigner, () => "", memberships);
    const after = withWrites(source, ruleset.schema, [write]);
    checkSettings(context, after, [write], false);
    const checks = new StateChecks(context, after);
    checks.changed([write]);
    checks.state([write]);
  };
  return {
    bears: (table) => bearing.get(table),
    refusal: (write, source) => {
      // Who holds what cannot be told: it is not changed here.
      if (source?.referring === undefined || source.all === undefined) return "needs-source";
      try {
        const outcome = refusalOf(() => judge(source, write));
        return "refused" in outcome ? outcome.refused.code : undefined;
      } catch (error) {
        if (error instanceof PortierError && error.code === "needs-source") return "needs-source";
        throw error;
      }
    },
  };
};
