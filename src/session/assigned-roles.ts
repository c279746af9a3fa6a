import { type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { Bad, False, True, type Truth } from "../conditions/truth.js";
import type { Group } from "../rules/groups.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Field, Role, RoleSource, Schema } from "../schema/schema.js";
import { storedForm, storedValue } from "../schema/types/stored-form.js";

/** A role as a sign-in brings it along, such as a claim of a token; or the name of a group, as one more member of it. */
export interface RoleClaim {
  /** A role of the document; any other is an error when the session opens. */
  readonly role: string;
  /** The address of the record that a scoped role is held on. */
  readonly on?: string;
  /** Where it comes from, for explanations: `token`. */
  readonly source?: string;
}

/** A role as it is given to a person, before includes and groups add to it. */
export interface AssignedRole {
  readonly role: Role;
  /** The address of the record that a scoped role is held on; undefined where it cannot be read, and for other roles. */
  readonly on: string | undefined;
  /** The field of the person, the link table or the claim that gives it. */
  readonly source: string;
  /** Who gave it, where an assignment says so. */
  readonly assignedBy?: string;
  /** When it ends, a canonical instant. */
  readonly until?: string;
  /** Bad where it cannot be read whether it counts now. */
  readonly truth: Truth;
}

/** What a person is given. */
export interface AssignedRoles {
  readonly roles: readonly AssignedRole[];
  /** The groups that a claim or an assignment names: one more way into them. */
  readonly groups: readonly AssignedGroup[];
}

export interface AssignedGroup {
  readonly group: string;
  readonly source: string;
  readonly truth: Truth;
}

/** What a person's roles are read from. */
export interface AssignedFrom {
  readonly schema: Schema;
  readonly groups: ReadonlyMap<string, Group>;
  readonly person: Row;
  /** The person's key in canonical form. */
  readonly key: Scalar;
  /** Now, as a canonical instant. */
  readonly now: string;
  readonly claims: Iterable<RoleClaim>;
}

/**
 * Reads a person's roles from their fields, from link tables and assignments, and from claims. What is over, or not yet
 * begun, is not there.
 *
 * @throws PortierError for a value that names no role, or a role of another scope: never silently nothing.
 */
export function assignedRoles(from: AssignedFrom, reading: Reading): AssignedRoles {
  const { schema, person } = from;
  const roles: AssignedRole[] = [];
  const groups: AssignedGroup[] = [];
  for (const source of schema.people?.roles ?? []) {
    if (source.kind === "link") {
      for (const given of linkedRoles(from, source, reading)) {
        if ("group" in given) groups.push(given);
        else roles.push(given);
      }
    } else {
      const stored = rawValue(person, source.field.name);
      if (stored === null || stored === undefined) continue;
      const value = storedForm(source.field.type, stored) ?? stored;
      for (const name of Array.isArray(value) ? value : [value]) {
        const role = findRole(schema, name, `"${source.field.name}" of the person`);
        checkScope(role, undefined, `"${source.field.name}" of the person`);
        roles.push({ role, on: undefined, source: source.field.name, truth: True });
      }
    }
  }
  for (const { role: name, on, source = "a claim" } of from.claims) {
    if (from.groups.has(name) && on === undefined) {
      groups.push({ group: name, source, truth: True });
      continue;
    }
    const role = findRole(schema, name, source);
    if ((role.scope === undefined) !== (on === undefined)) throw wrongScope(role, source);
    roles.push({ role, on, source, truth: True });
  }
  return { roles, groups };
}

function* linkedRoles(
  { schema, groups, key, now }: AssignedFrom,
  link: Extract<RoleSource, { kind: "link" }>,
  reading: Reading,
): Iterable<AssignedRole | AssignedGroup> {
  const { table, person: holder, role: named, on, isMixed } = link;
  if (reading.source?.referring === undefined) {
    const what = `finding the roles from "${table.name}"`;
    throw portierError("needs-source", reading.source === undefined ? { what } : { what, method: "referring" });
  }
  for (const row of reading.source.referring(table.name, holder.name, String(key))) {
    if (storedValue(holder.type, rawValue(row, holder.name)) !== key) continue;
    const name = rawValue(row, named.name);
    if (name === null || name === undefined) continue;
    const record = on && rawValue(row, on.name);
    // A role that is meant for a record and names none is held on none.
    if (record === null && !isMixed) continue;
    const truth = isRunning(link, row, now, reading);
    if (truth === False) continue;
    if (isMixed && record === null && groups.has(String(name))) {
      yield { group: String(name), source: "assignments", truth };
      continue;
    }
    const where = `"${table.name}"`;
    const role = findRole(schema, name, where);
    if (isMixed ? (role.scope === undefined) !== (record === null) : role.scope !== on?.type.target) {
      throw wrongScope(role, where);
    }
    const address = on === undefined || record === null ? undefined : storedValue(on.type, record);
    if (on !== undefined && record !== null && address === undefined) reading.badData(on, row);
    yield {
      role,
      on: address === undefined ? undefined : String(address),
      source: isMixed ? "assignments" : table.name,
      truth,
      ...noted(row, link),
    };
  }
}

function noted(row: Row, { isMixed, until }: Extract<RoleSource, { kind: "link" }>): Partial<AssignedRole> {
  const assignedBy = isMixed ? rawValue(row, "assignedBy") : undefined;
  const end = until && storedValue(until.type, rawValue(row, until.name));
  return {
    ...(typeof assignedBy === "string" ? { assignedBy } : {}),
    ...(end === undefined ? {} : { until: String(end) }),
  };
}

/** Where something stored says from when and until when it counts. */
interface Ends {
  readonly from: Field | undefined;
  readonly until: Field | undefined;
}

/** Whether `from <= now < until`; canonical instants are in order as texts. Bad where an end cannot be read. */
export function isRunning({ from, until }: Ends, row: Row, now: string, reading: Reading): Truth {
  const [begun, ended] = [from, until].map((field) => {
    const value = field && rawValue(row, field.name);
    if (field === undefined || value === null) return null;
    const instant = storedValue(field.type, value);
    if (instant === undefined) reading.badData(field, row);
    return instant;
  });
  if ((begun != null && now < begun) || (ended != null && ended <= now)) return False;
  return begun === undefined || ended === undefined ? Bad : True;
}

function findRole(schema: Schema, name: unknown, where: string): Role {
  const role = typeof name === "string" ? schema.roles.get(name) : undefined;
  if (role !== undefined) return role;
  throw portierError("unknown-role", { name: String(name), candidates: schema.roles.keys(), where });
}

function checkScope(role: Role, scope: string | undefined, where: string): void {
  if (role.scope !== scope) throw wrongScope(role, where);
}

function wrongScope({ name, scope }: Role, where: string) {
  return portierError("wrong-scope", { role: name, scope, where });
}
