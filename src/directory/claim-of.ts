import { portierError } from "../schema/problems.js";
import type { RoleClaim } from "../session/assigned-roles.js";
import { internals } from "../session/internals.js";
import type { AnyRules } from "../session/open-rules.js";

/**
 * What a name means that others use for a role or group of the document: `keeper`, `editor of e-2`, or a group.
 *
 * @throws PortierError (`unknown-role`) for anything else.
 */
export function claimOf(portier: AnyRules, text: string): RoleClaim {
  const { schema, groups } = internals(portier).ruleset;
  if (schema.roles.get(text)?.scope === undefined && (schema.roles.has(text) || groups.has(text)))
    return { role: text };
  const scoped = /^(\S+) of (.+)$/s.exec(text);
  const [, role = "", on = ""] = scoped ?? [];
  if (schema.roles.get(role)?.scope !== undefined) return { role, on };
  const candidates = [...schema.roles.keys(), ...groups.keys()];
  throw portierError("unknown-role", { name: text, candidates });
}
