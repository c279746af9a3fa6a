import type { Problem } from "../schema/problems.js";
import type { ChangeWarning } from "./change-warnings.js";
import type { ChangeJudgement } from "./judge-change.js";

/** What came of a change of who holds what. */
export type RoleOutcome =
  | { readonly accepted: true; readonly warnings: readonly ChangeWarning[] }
  | {
      readonly accepted: false;
      /** `unconfirmed`: it is made when it is repeated with the ids of its warnings. */
      readonly reason: "refused" | "unconfirmed";
      readonly problems: readonly Problem[];
      readonly warnings: readonly ChangeWarning[];
    };

/** What comes of a change, without the records that it writes. */
export function shown(judged: ChangeJudgement): RoleOutcome {
  if (judged.accepted) return { accepted: true, warnings: judged.warnings };
  if (judged.reason === "refused") return { ...judged, warnings: [] };
  return { accepted: false, reason: "unconfirmed", problems: [], warnings: judged.warnings };
}
