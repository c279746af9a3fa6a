import type { Row } from "../conditions/source.js";
import type { StoredWrite } from "../session/overlay.js";
import type { ProtectionChange } from "./protections.js";
import type { RoleChange } from "./role-change.js";

/** What was done, or asked, and is kept for ever. */
export interface AuditEntry {
  /** A canonical instant. */
  readonly at: string;
  /**
   * What it was: a change of roles, of what is protected, or of where that is as rows or columns moved; the first gift of a
   * role, an answer that was to be recorded, or a provisioning call.
   */
  readonly kind: RoleChange["kind"] | ProtectionChange["kind"] | "move-cells" | "bootstrap" | "decision" | "provision";
  /** The key of who did it, and of who did it for them; null where no person did. */
  readonly by: string | null;
  readonly actedBy: string | null;
  /** The key of the one whom it is about. */
  readonly person: string | null;
  /** The records that were written, as they were and as they are. */
  readonly before: readonly Row[];
  readonly after: readonly Row[];
  readonly reason: string | null;
  /** The ids of the warnings that were confirmed; of a decision, what was asked and answered. */
  readonly details: readonly string[];
}

export interface EntryFacts {
  readonly kind: AuditEntry["kind"];
  readonly at: string;
  readonly by: string | null;
  readonly actedBy?: string | undefined;
  readonly person: string | null;
  readonly reason?: string | undefined;
  readonly details?: readonly string[];
}

export function entryOf(facts: EntryFacts, writes: readonly StoredWrite[]): AuditEntry {
  return {
    at: facts.at,
    kind: facts.kind,
    by: facts.by,
    actedBy: facts.actedBy ?? null,
    person: facts.person,
    before: writes.flatMap(({ before }) => (before === undefined ? [] : [before])),
    after: writes.flatMap(({ after }) => (after === undefined ? [] : [after])),
    reason: facts.reason ?? null,
    details: facts.details ?? [],
  };
}
