import { True } from "../conditions/truth.js";
import type { Ruleset } from "../rules/compile-rules.js";
import type { Memberships } from "../session/memberships.js";

/** One way in which a person comes to a role, or into a group. */
export interface Way {
  /** The names that lead there, from the nearest on; empty for a role that is given itself. */
  readonly through: readonly string[];
  /** The field or link table that gives a role at the end of the way; undefined where the person's own record decides. */
  readonly source: string | undefined;
  /** The address of the record that a scoped role is held on. */
  readonly on: string | undefined;
}

/** Every way in which a person comes to a role or into a group for certain, given ones first. Empty where there is none. */
export function waysInto(ruleset: Ruleset, memberships: Memberships, name: string): readonly Way[] {
  const { schema, groups } = ruleset;
  const group = groups.get(name);
  if (group !== undefined) {
    if (memberships.of(name) !== True) return [];
    return group.members.flatMap((member): Way[] => {
      if (memberships.meets(member) !== True) return [];
      if (member.kind !== "member") return [{ through: [member.text], source: undefined, on: undefined }];
      const ways = waysInto(ruleset, memberships, member.name);
      return ways.map((way) => ({ ...way, through: [member.name, ...way.through] }));
    });
  }
  const given = memberships.given.each.filter(({ role }) => role.closure.has(name));
  const own = given.map(
    ({ role, on, source }): Way => ({ through: role.name === name ? [] : [role.name], source, on }),
  );
  const carried = [...groups.values()].flatMap((carrier) => {
    const brings = carrier.roles.filter((role) => schema.roles.get(role)?.closure.has(name) === true);
    if (brings.length === 0) return [];
    const ways = waysInto(ruleset, memberships, carrier.name);
    return brings.flatMap((role) => {
      const nearest = role === name ? [carrier.name] : [role, carrier.name];
      return ways.map((way) => ({ ...way, through: [...nearest, ...way.through] }));
    });
  });
  return [...own, ...carried].sort((a, b) => a.through.length - b.through.length);
}
