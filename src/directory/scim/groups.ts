import type { Row, Source } from "../../conditions/source.js";
import { keptOf } from "../../people/kept-state.js";
import type { Field, People } from "../../schema/schema.js";
import type { RoleClaim } from "../../session/assigned-roles.js";
import type { StoredWrite } from "../../session/overlay.js";
import type { Portier } from "../../session/portier.js";
import { elementsOf, partIn } from "./attribute.js";
import type { Target } from "./patch.js";
import { readPath } from "./path.js";
import { attributeOf, type Resource, ScimError, urns } from "./resources.js";

/** The groups that the application declares, and who is in them: a member is an assignment of what the group means. */
export class Groups {
  readonly #portier: Portier;
  readonly #people: People;
  readonly #key: Field;
  readonly #meanings: ReadonlyMap<string, RoleClaim>;

  constructor(portier: Portier, people: People, key: Field, meanings: ReadonlyMap<string, RoleClaim>) {
    this.#portier = portier;
    this.#people = people;
    this.#key = key;
    this.#meanings = meanings;
  }

  /** The groups that a person is in, as their own resource shows them. */
  of(person: string, source: Source): readonly Resource[] {
    const held = new Set(
      [...(source.referring?.("portier_assignments", "person", person) ?? [])].map((row) => row["id"]),
    );
    return [...this.#meanings.keys()]
      .filter((name) => held.has(assignmentId(name, person)))
      .map((name) => ({ value: groupId(name), display: name, type: "direct" }));
  }

  all(source: Source, withMembers: boolean): Resource[] {
    return [...this.#meanings.keys()].map((name) => this.#shown(name, source, withMembers));
  }

  one(id: string, source: Source, withMembers = true): Resource {
    return this.#shown(this.#nameOf(id), source, withMembers);
  }

  #nameOf(id: string): string {
    const name = [...this.#meanings.keys()].find((one) => groupId(one) === id);
    if (name === undefined) throw new ScimError(404, `there is no group "${id}"`);
    return name;
  }

  #shown(name: string, source: Source, withMembers: boolean): Resource {
    const members = () => this.#membersOf(name, source).map((row) => ({ value: String(row["person"]), type: "User" }));
    return {
      schemas: [urns.group],
      id: groupId(name),
      displayName: name,
      ...(withMembers ? { members: members() } : {}),
      meta: { resourceType: "Group" },
    };
  }

  /** The assignments that stand for members of a group. */
  #membersOf(name: string, source: Source): Row[] {
    const { role = "" } = this.#meanings.get(name) ?? {};
    const rows = source.referring?.("portier_assignments", "role", role) ?? [];
    return [...rows].filter((row) => row["id"] === assignmentId(name, String(row["person"])));
  }

  /** A group is declared by the application; a client that makes it finds it there already. */
  create(resource: Resource): never {
    const name = String(attributeOf(resource, "displayName"));
    if (this.#meanings.has(name)) throw new ScimError(409, `the group "${name}" is there`, "uniqueness");
    const known = [...this.#meanings.keys()].join(", ");
    throw new ScimError(400, `no group "${name}" is declared here; known: ${known}`, "invalidValue");
  }

  delete(id: string): never {
    this.#nameOf(id);
    throw new ScimError(403, "this group is declared by the application; take its members out", "mutability");
  }

  /** The members that a resource says, in place of those there are. */
  replace(id: string, resource: Resource, source: Source): readonly StoredWrite[] {
    const name = this.#nameOf(id);
    const displayed = attributeOf(resource, "displayName");
    if (displayed !== undefined && displayed !== name) {
      throw new ScimError(400, `the group is called "${name}" by the application`, "mutability");
    }
    const table = keptOf(this.#portier).assignments;
    const wanted = new Set(
      elementsOf(attributeOf(resource, "members")).map((one) => {
        const value = partIn(one, "value");
        if (typeof value === "string" && value !== "") return value;
        throw new ScimError(400, "a member needs a value, the id of a user", "invalidValue");
      }),
    );
    const there = this.#membersOf(name, source);
    const gone = there.filter((row) => !wanted.has(String(row["person"])));
    for (const row of there) wanted.delete(String(row["person"]));
    const { role, on = null } = this.#meanings.get(name) as RoleClaim;
    // All of them are looked up before any is missed, so that a database is asked for them together.
    const persons = [...wanted].map((person) => [person, source.find(this.#people.table.name, person)] as const);
    const made = persons.map(([person, found]) => {
      const key = found?.[this.#key.name];
      if (key === undefined) throw new ScimError(400, `there is no user "${person}" to be a member`, "invalidValue");
      const ends = { from: null, until: null };
      const after = {
        id: assignmentId(name, person),
        person: key,
        role,
        on,
        ...ends,
        assignedBy: null,
        reason: `group ${name}`,
      };
      return { table, before: undefined, after };
    });
    return [...gone.map((row) => ({ table, before: row, after: undefined })), ...made];
  }
}

/** What a client may change of a group. */
export const groupTargets: readonly Target[] = [
  { path: readPath("displayName"), isMulti: false },
  { path: readPath("members"), isMulti: true },
];

export function groupId(name: string): string {
  return encodeURIComponent(name);
}

/** The same member of the same group is the same assignment, however often it is provisioned. */
function assignmentId(group: string, person: string): string {
  return `scim ${groupId(group)} ${encodeURIComponent(person)}`;
}
