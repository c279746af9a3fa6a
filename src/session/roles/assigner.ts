import type { RoleClaim } from "../assigned-roles.js";

/** Who makes a change, when, and what they have read and confirmed. */
export interface Assigner {
  /** The key of the one in whose name it is made. */
  readonly person: string;
  /** The key of who acts for them. */
  readonly actedBy?: string | undefined;
  readonly claims?: Iterable<RoleClaim> | undefined;
  /** When, as a canonical instant. */
  readonly now: string;
  readonly request?: Readonly<Record<string, unknown>> | undefined;
  /** The ids of the warnings that were confirmed. */
  readonly confirmed: readonly string[];
}
