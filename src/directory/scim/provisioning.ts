import type { Row, Source } from "../../conditions/source.js";
import { judgeWrites } from "../../people/judge-change.js";
import { keptOf } from "../../people/kept-state.js";
import type { StoredWrite } from "../../people/overlay.js";
import { entryOf } from "../../people/record-entry.js";
import type { RoleStore, StoreChange } from "../../people/role-store.js";
import { splitAddress } from "../../schema/address.js";
import { portierError } from "../../schema/problems.js";
import { type Field, isOwn, type People, singleKey } from "../../schema/schema.js";
import type { RoleClaim } from "../../session/given-roles.js";
import type { Portier } from "../../session/portier.js";
import { claimOf } from "../claim-of.js";
import { attributeOf, type Resource, ScimError, urns, valueAt } from "./resources.js";

export interface ScimOptions {
  /** The attribute that is a person's key: `userName` (the default), `externalId` or another one. */
  readonly key?: string;
  /**
   * What the fields of a person are called there: `{ name: "displayName", active: "active" }`. A field of an extension is
   * written with its URN before it. Fields that are not named stay as they are.
   */
  readonly fields: Readonly<Record<string, string>>;
  /** What groups mean, by their display name: the name of a role (`keeper`, `editor of e-2`) or of a group of the document. */
  readonly groups: Readonly<Record<string, string>>;
}

/** Whom and what is provisioned, as resources, on one state of a store. */
export class Provisioning {
  readonly #portier: Portier;
  readonly #people: People;
  readonly #key: Field;
  readonly #keyAttribute: string;
  readonly #fields: readonly (readonly [field: Field, attribute: string])[];
  readonly #groups: ReadonlyMap<string, RoleClaim>;

  constructor(portier: Portier, { key = "userName", fields, groups }: ScimOptions) {
    keptOf(portier);
    const { people } = portier.schema;
    const keyField = people && singleKey(people.table);
    if (people === undefined || keyField === undefined) throw portierError("no-people", { what: "provisioning" });
    this.#portier = portier;
    this.#people = people;
    this.#key = keyField;
    this.#keyAttribute = key;
    this.#fields = Object.entries(fields).map(([name, attribute]) => {
      const field = people.table.byName.get(name);
      if (field !== undefined && isOwn(field) && !field.computed && field !== keyField)
        return [field, attribute] as const;
      throw portierError("unknown-field", { table: people.table.name, name, candidates: people.table.byName.keys() });
    });
    this.#groups = new Map(Object.entries(groups).map(([name, meaning]) => [name, claimOf(portier, meaning)]));
  }

  // Users

  users(source: Source): Resource[] {
    return [...(source.all?.(this.#people.table.name) ?? [])].map((row) => this.#userOf(row, source));
  }

  user(id: string, source: Source): Resource {
    return this.#userOf(this.#personRow(id, source), source);
  }

  #personRow(id: string, source: Source): Row {
    const row = source.find(this.#people.table.name, id);
    if (row === undefined) throw new ScimError(404, `there is no user "${id}"`);
    return row;
  }

  /** What is shown of a person is what is provisioned, and nothing else of their record. */
  #userOf(row: Row, source: Source): Resource {
    const id = String(row[this.#key.name]);
    const user: Record<string, unknown> = { schemas: [urns.user], id };
    setAt(user, this.#keyAttribute, id);
    if (valueAt(user, "userName") === undefined) user["userName"] = id;
    for (const [field, attribute] of this.#fields) {
      const value = row[field.name];
      if (value !== null && value !== undefined) setAt(user, attribute, value);
    }
    if (Object.hasOwn(user, urns.enterprise)) user["schemas"] = [urns.user, urns.enterprise];
    const groups = this.#groupsOf(id, source).map((name) => ({ value: groupId(name), display: name, type: "direct" }));
    return { ...user, ...(groups.length === 0 ? {} : { groups }), meta: { resourceType: "User" } };
  }

  #groupsOf(person: string, source: Source): string[] {
    const held = [...(source.referring?.("portier_assignments", "person", person) ?? [])].map((row) => row["id"]);
    return [...this.#groups.keys()].filter((name) => held.includes(assignmentId(name, person)));
  }

  /** A person who is not there yet. */
  createUser(resource: Resource, source: Source): readonly StoredWrite[] {
    const { table } = this.#people;
    const id = valueAt(resource, this.#keyAttribute);
    if (typeof id !== "string" || id === "")
      throw new ScimError(400, `"${this.#keyAttribute}" is missing`, "invalidValue");
    const [key] = splitAddress([this.#key.type], id) ?? [];
    if (key === undefined) throw new ScimError(400, `"${id}" can be nobody's key`, "invalidValue");
    if (source.find(table.name, id) !== undefined) throw new ScimError(409, `there is a user "${id}"`, "uniqueness");
    const blank = table.fields.filter(isOwn).map((field) => [field.name, field.default ?? null] as const);
    const row = { ...Object.fromEntries(blank), [this.#key.name]: key, ...this.#valuesOf(resource) };
    const values = row as Row;
    const lacking = table.fields.filter(
      (field) => isOwn(field) && !field.optional && !field.computed && !field.generated && values[field.name] === null,
    );
    if (lacking.length > 0) {
      const names = lacking.map((field) => this.#fields.find(([one]) => one === field)?.[1] ?? field.name).join(", ");
      throw new ScimError(400, `these are missing: ${names}`, "invalidValue");
    }
    return [{ table, before: undefined, after: row }];
  }

  /** A person's record with what a resource says of it. */
  replaceUser(id: string, resource: Resource, source: Source): readonly StoredWrite[] {
    const { table } = this.#people;
    const before = this.#personRow(id, source);
    const named = valueAt(resource, this.#keyAttribute);
    if (named !== undefined && named !== id) {
      throw new ScimError(400, `"${this.#keyAttribute}" is the user's key, and stays`, "mutability");
    }
    const values = this.#valuesOf(resource);
    const isChanged = Object.entries(values).some(([name, value]) => {
      const type = table.byName.get(name)?.type;
      const canonical = (one: unknown) => (one === null ? null : type?.canonical(one));
      return canonical(value) !== canonical(before[name]);
    });
    return isChanged ? [{ table, before, after: { ...before, ...values } }] : [];
  }

  /** The person, and whatever they were given. */
  deleteUser(id: string, source: Source): readonly StoredWrite[] {
    const before = this.#personRow(id, source);
    const { assignments, delegations } = keptOf(this.#portier);
    const of = (table: typeof assignments, field: string) =>
      [...(source.referring?.(table.name, field, id) ?? [])].map((row) => ({ table, before: row, after: undefined }));
    return [
      ...of(assignments, "person"),
      ...of(delegations, "of"),
      ...of(delegations, "to"),
      { table: this.#people.table, before, after: undefined },
    ];
  }

  /** Brings one user or group to what a resource says of it; a user who is not there is made. */
  writesOf(resource: Resource, isGroup: boolean, source: Source): readonly StoredWrite[] {
    if (isGroup) return this.replaceGroup(groupId(String(attributeOf(resource, "displayName"))), resource, source);
    const id = valueAt(resource, this.#keyAttribute);
    const isThere = typeof id === "string" && source.find(this.#people.table.name, id) !== undefined;
    return isThere ? this.replaceUser(id, resource, source) : this.createUser(resource, source);
  }

  #valuesOf(resource: Resource): Row {
    const values: Record<string, unknown> = {};
    for (const [field, attribute] of this.#fields) {
      const given = valueAt(resource, attribute);
      if (given === undefined || given === null) {
        if (!field.optional && field.default === null)
          throw new ScimError(400, `"${attribute}" is missing`, "invalidValue");
        values[field.name] = field.default ?? null;
        continue;
      }
      // Some clients send booleans as texts.
      const value = field.type.base === "boolean" && typeof given === "string" ? /^true$/i.test(given) : given;
      if (!field.type.fits(value)) {
        throw new ScimError(400, `"${attribute}" must be ${field.type.expects}`, "invalidValue");
      }
      values[field.name] = value;
    }
    return values;
  }

  // Groups

  groups(source: Source): Resource[] {
    return [...this.#groups.keys()].map((name) => this.#groupOf(name, source));
  }

  group(id: string, source: Source): Resource {
    return this.#groupOf(this.#groupName(id), source);
  }

  #groupName(id: string): string {
    const name = [...this.#groups.keys()].find((one) => groupId(one) === id);
    if (name === undefined) throw new ScimError(404, `there is no group "${id}"`);
    return name;
  }

  #groupOf(name: string, source: Source): Resource {
    const members = this.#membersOf(name, source).map((row) => ({ value: String(row["person"]), type: "User" }));
    return {
      schemas: [urns.group],
      id: groupId(name),
      displayName: name,
      members,
      meta: { resourceType: "Group" },
    };
  }

  /** The assignments that stand for members of a group. */
  #membersOf(name: string, source: Source): Row[] {
    const { role = "" } = this.#groups.get(name) ?? {};
    const rows = source.referring?.("portier_assignments", "role", role) ?? [];
    return [...rows].filter((row) => row["id"] === assignmentId(name, String(row["person"])));
  }

  /** A group is declared by the application; a client that makes it finds it there already. */
  createGroup(resource: Resource): never {
    const name = String(attributeOf(resource, "displayName"));
    if (this.#groups.has(name)) throw new ScimError(409, `the group "${name}" is there`, "uniqueness");
    const known = [...this.#groups.keys()].join(", ");
    throw new ScimError(400, `no group "${name}" is declared here; known: ${known}`, "invalidValue");
  }

  deleteGroup(id: string): never {
    this.#groupName(id);
    throw new ScimError(403, "this group is declared by the application; take its members out", "mutability");
  }

  /** The members that a resource says, in place of those there are. */
  replaceGroup(id: string, resource: Resource, source: Source): readonly StoredWrite[] {
    const name = this.#groupName(id);
    const displayed = attributeOf(resource, "displayName");
    if (displayed !== undefined && displayed !== name) {
      throw new ScimError(400, `the group is called "${name}" by the application`, "mutability");
    }
    const table = keptOf(this.#portier).assignments;
    const given = attributeOf(resource, "members") ?? [];
    if (!Array.isArray(given)) throw new ScimError(400, "members must be a list", "invalidValue");
    const wanted = new Set(given.map((one) => String(attributeOf(one, "value"))));
    const there = this.#membersOf(name, source);
    const gone = there.filter((row) => !wanted.has(String(row["person"])));
    for (const row of there) wanted.delete(String(row["person"]));
    const { role, on = null } = this.#groups.get(name) as RoleClaim;
    const made = [...wanted].map((person) => {
      const key = source.find(this.#people.table.name, person)?.[this.#key.name];
      if (key === undefined) throw new ScimError(400, `there is no user "${person}" to be a member`, "invalidValue");
      const ends = { from: null, until: null };
      const after = {
        id: assignmentId(name, person),
        person: key,
        role,
        on,
        ...ends,
        givenBy: null,
        reason: `group ${name}`,
      };
      return { table, before: undefined, after };
    });
    return [...gone.map((row) => ({ table, before: row, after: undefined })), ...made];
  }
}

/**
 * Writes what a call comes to, and records it, if nobody then holds roles that exclude each other and the last holders
 * stay.
 *
 * @throws ScimError (409) otherwise; nothing is written then.
 */
export async function writeProvisioned(
  portier: Portier,
  store: RoleStore,
  inside: StoreChange,
  writes: readonly StoredWrite[],
  what: string,
  now: string,
): Promise<void> {
  if (writes.length === 0) return;
  const kept = keptOf(portier);
  const isKept = ({ table }: StoredWrite) => table === kept.assignments || table === kept.delegations;
  if (!store.keepsPersons && !writes.every(isKept)) {
    throw new ScimError(501, "persons are not kept here; provision groups alone");
  }
  const [problem] = await inside.read((source) => judgeWrites(portier, source, writes, now));
  if (problem !== undefined) throw new ScimError(409, problem.message);
  const person = personOf(writes, portier);
  await inside.write(writes, [entryOf({ kind: "provision", at: now, by: null, person, details: [what] }, writes)]);
}

/** The one whom some writes are about; null where it is several. */
function personOf(writes: readonly StoredWrite[], { schema }: Portier): string | null {
  const key = schema.people && singleKey(schema.people.table);
  const persons = writes.map(({ table, before, after }) => {
    const row = after ?? before ?? {};
    return String(
      row[table === schema.people?.table ? (key?.name ?? "") : table === schema.kept?.delegations ? "of" : "person"],
    );
  });
  return new Set(persons).size === 1 ? (persons[0] ?? null) : null;
}

function groupId(name: string): string {
  return encodeURIComponent(name);
}

/** The same member of the same group is the same assignment, however often it is provisioned. */
function assignmentId(group: string, person: string): string {
  return `scim ${groupId(group)} ${encodeURIComponent(person)}`;
}

/** Sets an attribute in a resource that is being made; names are the application's own. */
function setAt(resource: Record<string, unknown>, path: string, value: unknown): void {
  const urn = /^(urn:.*:(?:User|Group)):(.+)$/i.exec(path);
  const steps = urn === null ? path.split(".") : [urn[1] as string, ...(urn[2] as string).split(".")];
  let at = resource;
  for (const step of steps.slice(0, -1)) {
    const next = Object.hasOwn(at, step) ? (at[step] as Record<string, unknown>) : {};
    at[step] = next;
    at = next;
  }
  at[steps[steps.length - 1] as string] = value;
}
