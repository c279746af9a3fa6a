import type { Expression, Operand } from "../conditions/expression.js";
import type { IgnoredWarnings, Role, Schema } from "../schema/schema.js";

/** A named set of persons. */
export interface Group {
  readonly name: string;
  /** In the group is who is any of these, ... */
  readonly members: readonly Member[];
  /** ... meets this (about the person's own record), ... */
  readonly where: Expression;
  /** ... and is none of these. */
  readonly without: readonly Member[];
  /** Roles that the group's members hold. */
  readonly roles: readonly string[];
  readonly note: string | undefined;
  readonly ignore: IgnoredWarnings;
}

export type Member =
  /** Somebody who holds a role, or is in another group. */
  | { readonly kind: "member"; readonly name: string; readonly text: string }
  | { readonly kind: "person"; readonly key: Operand; readonly text: string }
  /** That person, and everybody below or above them in the manager line, at most some levels away. */
  | {
      readonly kind: "along";
      readonly key: Operand;
      readonly direction: "above" | "below";
      readonly levels: number | undefined;
      /** Whether somebody is so, and not that person, as a condition on their own record. */
      readonly test: Expression;
      readonly text: string;
    }
  /** A condition on the person's own record. */
  | { readonly kind: "where"; readonly condition: Expression; readonly text: string };

/** A group that carries a role. */
export interface Carrier {
  readonly group: Group;
  /** The role that it carries, which may bring others. */
  readonly role: Role;
}

/** For each role the groups that bring it, by carrying it or one that includes it. */
export function carriersOf(groups: ReadonlyMap<string, Group>, roles: Schema["roles"]): Map<string, Carrier[]> {
  const carriers = new Map<string, Carrier[]>();
  for (const group of groups.values()) {
    for (const name of group.roles) {
      const role = roles.get(name);
      for (const brought of role?.closure ?? []) {
        const list = carriers.get(brought) ?? [];
        carriers.set(brought, list);
        if (role !== undefined) list.push({ group, role });
      }
    }
  }
  return carriers;
}
