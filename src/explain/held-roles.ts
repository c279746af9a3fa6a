import { True } from "../conditions/truth.js";
import { internals } from "../session/internals.js";
import type { AnySession } from "../session/open-session.js";

import { type MembershipPath, waysInto } from "./membership-paths.js";

/** A role that somebody holds, and through what. */
export interface HeldRole {
  readonly role: string;
  /** The ways in which they come to it, the shortest first, 20 at most. */
  readonly ways: readonly MembershipPath[];
}

/**
 * The roles that the current user holds for certain, each with its ways: through which roles and groups, given by which
 * field, link table, assignment or claim, by whom and until when. None for a visitor, and for somebody made up.
 */
export function heldRoles(session: AnySession): HeldRole[] {
  const { ruleset, subject } = internals(session);
  const { memberships } = subject;
  if (memberships === undefined) return [];
  return [...ruleset.schema.roles.keys()].flatMap((role) => {
    const ways = memberships.holds(role) === True ? waysInto(ruleset, memberships, role) : [];
    return ways.length === 0 ? [] : [{ role, ways }];
  });
}
