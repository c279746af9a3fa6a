import { always, never } from "../conditions/expression.js";
import type { Ruleset } from "../rules/ruleset.js";
import { portierError } from "../schema/problems.js";
import { isInForce, noRules, type OpenedSubject } from "./open-subject.js";
import { readRequest } from "./session-values.js";
import type { Subject } from "./subject.js";

/**
 * A made-up person who holds these roles, or is in these groups, and of whom nothing else is known, for questions about a
 * role or group at the time of a request.
 */
export function roleSubject(
  ruleset: Ruleset,
  names: readonly string[],
  request: Readonly<Record<string, unknown>>,
): OpenedSubject {
  const { schema, groups, lines } = ruleset;
  const held = new Set<string>();
  for (const name of names) {
    const group = groups.get(name);
    if (group !== undefined) held.add(name);
    for (const one of group?.roles ?? [name]) {
      const role = schema.roles.get(one);
      const candidates = [...schema.roles.keys(), ...groups.keys()];
      if (role === undefined) throw portierError("unknown-role", { name, candidates });
      for (const brought of role.closure) held.add(brought);
    }
  }
  // The groups that take in whoever is in this one, or holds this role, without asking anything else.
  for (const name of held) {
    for (const group of groups.values()) {
      const takesIn = group.members.some(
        (member) => member.kind === "member" && (member.name === name || lines.get(member.name)?.of === name),
      );
      if (!takesIn || group.where !== always || group.without.length > 0) continue;
      held.add(group.name);
      for (const role of group.roles) for (const brought of schema.roles.get(role)?.closure ?? []) held.add(brought);
    }
  }
  const now = readRequest(schema, request).get("now") as string;
  const subject: Subject = {
    meets: true,
    signedIn: always,
    // Whether such a person is in a group, nobody can say; a role that only groups carry is then open, too.
    membership: (name) => {
      const line = lines.get(name);
      if (held.has(line?.of ?? name)) return always;
      if (line !== undefined) return { kind: "open", name };
      const isOpen =
        groups.has(name) ||
        [...groups.values()].some((group) => group.roles.some((role) => schema.roles.get(role)?.closure.has(name)));
      return isOpen ? { kind: "open", name } : never;
    },
    // A scoped role that is held is held on some record; which one, nobody can say. One that is not is held on none.
    known: (operand) =>
      operand.kind === "held" && !held.has(operand.role)
        ? { kind: "constant", type: operand.type, value: "[]" }
        : operand,
    inForce: (rule) => (isInForce(rule, now) ? always : never),
    settings: () => noRules,
  };
  const classKey = `roles:${JSON.stringify([[...held].sort(), ruleset.timed.map((rule) => isInForce(rule, now))])}`;
  return {
    ...subject,
    key: undefined,
    now,
    memberships: undefined,
    classKey: () => classKey,
    planKey: classKey,
    values: [],
    alike: subject,
    roles: () => [...held].filter((name) => schema.roles.has(name)).sort(),
  };
}
