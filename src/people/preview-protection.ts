import type { Source } from "../conditions/source.js";
import { withWrites } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import { toNobody } from "../session/reading.js";
import type { Assigner } from "../session/roles/assigner.js";
import { diffAccess } from "../verify/gains.js";
import { personViewers } from "../verify/viewers.js";
import { instantOfEffect } from "./change-warnings.js";
import { judgeProtection } from "./judge-protection.js";
import type { ProtectionChange } from "./protections.js";
import { type RoleOutcome, shown } from "./role-outcome.js";

/** A change of protections before it is made, with what everybody would gain and lose by it. */
export interface ProtectionPreview {
  /** Whether it would be done, or why not; what must be confirmed first. */
  readonly outcome: RoleOutcome;
  /** Who gains and loses which cells, equal people together. */
  readonly differences: ReturnType<typeof diffAccess>;
}

/** A change of protections as it would come out, for everybody. */
export function previewOfProtection(
  portier: Portier,
  source: Source,
  change: ProtectionChange,
  assigner: Assigner,
): ProtectionPreview {
  const judged = judgeProtection(portier, source, change, assigner, () => "new");
  const outcome = shown(judged);
  if (!judged.accepted && judged.reason === "refused") return { outcome, differences: [] };
  const after = withWrites(source, portier.schema, judged.writes);
  const people = portier.schema.people?.table.name ?? "";
  const request = { ...assigner.request, now: instantOfEffect(judged.writes, assigner.now) };
  const [was, is] = [source, after].map((state) =>
    personViewers(portier, [...(state.all?.(people) ?? [])], { source: state, request, onDiagnostic: toNobody }),
  );
  const differences = diffAccess(was ?? [], is ?? [], (table) => source.all?.(table) ?? []);
  return { outcome, differences };
}
