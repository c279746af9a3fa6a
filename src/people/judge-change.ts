import type { Source } from "../conditions/source.js";
import type { Problem } from "../schema/problems.js";
import { isStorable } from "../schema/scalar.js";
import { internals } from "../session/internals.js";
import { type StoredWrite, withWrites } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import type { Assigner } from "../session/roles/assigner.js";
import { AssignmentContext } from "../session/roles/assignment-context.js";
import { type RefusedRoles, refusalOf, refuse } from "../session/roles/refusal.js";
import { checkSettings } from "../session/roles/setting-changes.js";
import { StateChecks } from "../session/roles/state-checks.js";
import { assignmentProblem } from "./assignment-problem.js";
import { type ChangeWarning, warningsOf } from "./change-warnings.js";
import { ChangeWrites } from "./change-writes.js";
import type { RoleChange } from "./role-change.js";

/** What comes of a change that was judged. Nothing is written yet. */
export type ChangeJudgement =
  | {
      readonly accepted: true;
      readonly writes: readonly StoredWrite[];
      readonly warnings: readonly ChangeWarning[];
    }
  | {
      readonly accepted: false;
      readonly reason: "refused";
      readonly problems: readonly Problem[];
    }
  /** It is accepted once these warnings are confirmed, and would then write this. */
  | {
      readonly accepted: false;
      readonly reason: "unconfirmed";
      readonly writes: readonly StoredWrite[];
      readonly warnings: readonly ChangeWarning[];
    };

/**
 * Judges a change of who holds what, on a source that holds the state before it. Pure: asked again on the same source it
 * answers the same, but for the ids of new records, which come from `newId`.
 */
export function judgeChange(
  portier: Portier,
  source: Source,
  change: RoleChange,
  assigner: Assigner,
  newId: () => string,
): ChangeJudgement {
  return judgedBy(new AssignmentContext(internals(portier), source, assigner, newId), change, (context) => {
    const writes = new ChangeWrites(context).of(change);
    const after = withWrites(source, portier.schema, writes);
    const checks = new StateChecks(context, after);
    checks.state(writes);
    checkSettings(context, after, writes, true);
    if (change.kind === "change-person" || change.kind === "change-link") checks.changed(writes, true);
    else checks.gained(writes, change.kind === "assign" || change.kind === "replace" ? change.role : undefined);
    return { writes, warnings: warningsOf(portier, { source, after, change, writes, assigner }) };
  });
}

/** What a person's change writes and warns of, accepted once all of that is confirmed. */
export function judgedBy(
  context: AssignmentContext,
  change: object,
  judge: (context: AssignmentContext) => {
    readonly writes: readonly StoredWrite[];
    readonly warnings: readonly ChangeWarning[];
  },
): ChangeJudgement {
  return judged(() => {
    // Whoever is not active is refused before anything of the change is looked at: they learn nothing of what is named.
    context.held();
    if (!isStorable(change)) refuse("unstorable-text", {});
    const { writes, warnings } = judge(context);
    const isConfirmed = warnings.every(({ id }) => context.assigner.confirmed.includes(id));
    if (!isConfirmed) return { accepted: false, reason: "unconfirmed", writes, warnings };
    return { accepted: true, writes, warnings };
  });
}

/**
 * Judges the gift of a role by nobody, which is there for the first one: it is refused as soon as there is anybody who
 * may give the role.
 */
export function judgeBootstrap(
  portier: Portier,
  source: Source,
  change: Extract<RoleChange, { kind: "assign" }>,
  now: string,
  newId: () => string,
): ChangeJudgement {
  return judged(() => {
    const context = new AssignmentContext(internals(portier), source, { ...nobody, now }, newId);
    if (!isStorable(change)) refuse("unstorable-text", {});
    const writes = new ChangeWrites(context).bootstrap(change);
    new StateChecks(context, withWrites(source, portier.schema, writes)).state(writes);
    return { accepted: true, writes, warnings: [] };
  });
}

/**
 * Judges writes that no person makes, such as those of a provisioning client: nobody's right to give is asked, but roles
 * that exclude each other and the last holders of a role are kept.
 */
export function judgeWrites(
  portier: Portier,
  source: Source,
  writes: readonly StoredWrite[],
  now: string,
): readonly Problem[] {
  const context = new AssignmentContext(internals(portier), source, { ...nobody, now }, () => "");
  const outcome = refusalOf(() => new StateChecks(context, withWrites(source, portier.schema, writes)).state(writes));
  return "refused" in outcome ? [problemOf(outcome.refused)] : [];
}

const nobody = { person: "", confirmed: [] };

function judged(judge: () => ChangeJudgement): ChangeJudgement {
  const outcome = refusalOf(judge);
  if ("value" in outcome) return outcome.value;
  return { accepted: false, reason: "refused", problems: [problemOf(outcome.refused)] };
}

function problemOf({ code, facts }: RefusedRoles): Problem {
  return assignmentProblem(code, facts as never);
}
