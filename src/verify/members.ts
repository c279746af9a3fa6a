import { False, True } from "../conditions/truth.js";
import { type MembershipPath, waysInto } from "../explain/membership-paths.js";
import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";

import type { Viewer } from "./viewers.js";

/** A person who holds a role or is in a group. */
export interface Member {
  readonly person: Viewer;
  /** False where their record leaves it open: then a permit does not count them in, and a deny does. */
  readonly isCertain: boolean;
  /** The ways in, the shortest first, 20 at most; empty where it is not certain. */
  readonly ways: readonly MembershipPath[];
}

/**
 * Who of some people holds a role (a scoped one, on any record) or is in a group, and through what, in the order of the
 * people. Whoever is not active holds nothing.
 *
 * @throws PortierError for a name that is not a role and no group.
 */
export function membersOf(portier: Portier, people: readonly Viewer[], name: string): Member[] {
  const ruleset = internals(portier).ruleset;
  const { roles } = ruleset.schema;
  if (!roles.has(name) && !ruleset.groups.has(name)) {
    const candidates = [...roles.keys(), ...ruleset.groups.keys()];
    throw new PortierError([problem("unknown-who", { name, candidates })]);
  }
  return people.flatMap((person): Member[] => {
    const { memberships } = internals(person.session).subject;
    if (memberships === undefined) return [];
    const truth = memberships.holds(name);
    if (truth === False) return [];
    const isCertain = truth === True;
    return [{ person, isCertain, ways: isCertain ? waysInto(ruleset, memberships, name) : [] }];
  });
}

/** Every role and group of a document, in declared order. */
export function membershipNames(portier: Portier): string[] {
  const { schema, groups } = internals(portier).ruleset;
  return [...schema.roles.keys(), ...groups.keys()];
}
