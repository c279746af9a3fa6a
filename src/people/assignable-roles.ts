import type { Source } from "../conditions/source.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Role } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import type { Assigner } from "../session/roles/assigner.js";
import { AssignmentContext } from "../session/roles/assignment-context.js";
import { mayAssign } from "../session/roles/holdings.js";
import { refusalOf } from "../session/roles/refusal.js";

/** A role that may be given. */
export interface AssignableRole {
  readonly role: string;
  readonly note: string | undefined;
}

/** The roles that somebody may give, on a record or on none, from least to most. None for one who is not active. */
export function assignableRoles(
  portier: Portier,
  source: Source,
  assigner: Assigner,
  on: { readonly table: string; readonly key: string } | undefined,
): readonly AssignableRole[] {
  const context = new AssignmentContext(internals(portier), source, assigner, () => "");
  const held = refusalOf(() => context.held());
  if (!("value" in held)) return [];
  return fromLeast(internals(portier).ruleset)
    .filter((role) => role.scope === on?.table && mayAssign(held.value, role, on?.key ?? null))
    .map(({ name, note }) => ({ role: name, note }));
}

/** Each role before those that include it; of others, the one first by which less is permitted. */
export function fromLeast({ schema, rules }: Ruleset): readonly Role[] {
  const permits = new Map<string, number>();
  for (const { effect, to, extents } of rules) {
    if (effect.phase !== "permit") continue;
    const size = [...extents.values()].reduce((sum, { fields }) => sum + Math.max(1, fields.size), 0);
    for (const who of to) {
      const [name = ""] = who.text.split(" ");
      permits.set(name, (permits.get(name) ?? 0) + size);
    }
  }
  const weight = ({ closure }: Role) => [...closure].reduce((sum, name) => sum + (permits.get(name) ?? 0), 0);
  // A role that includes another weighs as much at least; where it adds nothing, the longer closure comes later.
  return [...schema.roles.values()].sort((a, b) => weight(a) - weight(b) || a.closure.size - b.closure.size);
}
