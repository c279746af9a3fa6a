import { True } from "../conditions/truth.js";
import type { Group } from "../rules/groups.js";
import type { Line } from "../rules/lines.js";
import type { Ruleset } from "../rules/ruleset.js";
import { formatInstant } from "../schema/instant.js";
import type { Schema } from "../schema/schema.js";
import type { Memberships } from "../session/memberships.js";

/** One way in which a person comes to a role, or into a group. */
export interface MembershipPath {
  /** The names that lead there, from the nearest on; empty for a role that is assigned itself. */
  readonly through: readonly string[];
  /** The field or link table that assigns a role at the end of the way; undefined where the person's own record decides. */
  readonly source: string | undefined;
  /** The address of the record that a scoped role is held on. */
  readonly on: string | undefined;
  /** Who gave it, where an assignment says so. */
  readonly assignedBy?: string;
  /** When it ends, a canonical instant. */
  readonly until?: string;
}

/** Groups can be in each other by many roads: more than these are not told. */
const most = 20;

/**
 * The ways in which a person comes to a role or into a group for certain, the shortest first, 20 at most. Empty where
 * there is none.
 */
export function waysInto(ruleset: Ruleset, memberships: Memberships, name: string): readonly MembershipPath[] {
  const { groups, lines } = ruleset;
  // Each name is looked at once, however many lead to it.
  const found = new Map<string, readonly MembershipPath[]>();
  const into = (one: string): readonly MembershipPath[] => {
    const known = found.get(one);
    if (known !== undefined) return known;
    const group = groups.get(one);
    const line = lines.get(one);
    const ways = group !== undefined ? intoGroup(group) : line !== undefined ? intoLine(one, line) : intoRole(one);
    const shortest = ways.sort((a, b) => a.through.length - b.through.length).slice(0, most);
    found.set(one, shortest);
    return shortest;
  };
  const intoGroup = (group: Group): MembershipPath[] => {
    if (memberships.of(group.name) !== True) return [];
    const claimed = memberships.given.groups
      .filter((one) => one.group === group.name && one.truth === True)
      .map(({ source }): MembershipPath => ({ through: [], source, on: undefined }));
    const ways = group.members.flatMap((member): readonly MembershipPath[] => {
      if (memberships.meets(member) !== True) return [];
      if (member.kind !== "member") return [{ through: [member.text], source: undefined, on: undefined }];
      return behind([member.name], into(member.name));
    });
    return [...claimed, ...ways];
  };
  /** By what begins the line; else by others, who are above or below. */
  const intoLine = (one: string, { of }: Line): MembershipPath[] => {
    if (memberships.of(of) === True) return [...behind([of], into(of))];
    return memberships.of(one) === True ? [{ through: [], source: undefined, on: undefined }] : [];
  };
  const intoRole = (one: string): MembershipPath[] => {
    const given = memberships.given.roles.filter(({ role }) => role.closure.has(one));
    const own = given.map(
      ({ role, on, source, assignedBy, until }): MembershipPath => ({
        through: role.name === one ? [] : [role.name],
        source,
        on,
        ...(assignedBy === undefined ? {} : { assignedBy }),
        ...(until === undefined ? {} : { until }),
      }),
    );
    const carried = (ruleset.carriers.get(one) ?? []).flatMap(({ group, role }) =>
      behind(role.name === one ? [group.name] : [role.name, group.name], into(group.name)),
    );
    return [...own, ...carried];
  };
  return into(name);
}

function behind(names: readonly string[], ways: readonly MembershipPath[]): readonly MembershipPath[] {
  return ways.map((way) => ({ ...way, through: [...names, ...way.through] }));
}

/** `keeper through head, given in post`: from the nearest name to what gives it. */
export function formatMembershipPath(
  schema: Schema,
  { through, source, on, assignedBy, until }: MembershipPath,
): string {
  const names = through.length === 0 ? [] : [through.join(" through ")];
  const by = `${assignedBy === undefined ? "" : ` by ${assignedBy}`}${until === undefined ? "" : ` until ${formatInstant(schema, until)}`}`;
  const given = source === undefined ? [] : [`from ${source}${by}`];
  const record = on === undefined ? "" : `${on}: `;
  return `${record}${[...names, ...given].join(", ")}`;
}
