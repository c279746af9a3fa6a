import { compileTest } from "../conditions/evaluate.js";
import type { Expression, Operand } from "../conditions/expression.js";
import { type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { type Known, specialize } from "../conditions/specialize.js";
import { Bad, False, not, True, type Truth } from "../conditions/truth.js";
import type { Ruleset } from "../rules/compile-rules.js";
import type { Group, Member } from "../rules/groups.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import { type Role, type RoleSource, type Schema, singleKey } from "../schema/schema.js";

/** What a person was given, before groups add to it: closed over includes. */
export interface GivenRoles {
  readonly global: ReadonlySet<string>;
  /** For each scoped role the addresses of the records that it is held on; undefined where one cannot be read. */
  readonly scoped: ReadonlyMap<string, ReadonlySet<string> | undefined>;
  /** Each role as it was given, before includes. */
  readonly each: readonly GivenRole[];
}

export interface GivenRole {
  readonly role: Role;
  /** The address of the record that a scoped role is held on; undefined where it cannot be read, and for other roles. */
  readonly on: string | undefined;
  /** The field of the person, or the link table, that gives it. */
  readonly source: string;
}

/**
 * Reads a person's roles from their fields and from link tables.
 *
 * @throws PortierError for a value that names no role, or a role of another scope: never silently nothing.
 */
export function givenRoles(schema: Schema, person: Row, key: Scalar, reading: Reading): GivenRoles {
  const global = new Set<string>();
  const scoped = new Map<string, Set<string> | undefined>();
  const each: GivenRole[] = [];
  for (const source of schema.people?.roles ?? []) {
    for (const { name, on } of namesFrom(source, person, key, reading)) {
      const role = findRole(schema, name, source);
      each.push({ role, on, source: source.kind === "field" ? source.field.name : source.table.name });
      if (role.scope === undefined) {
        for (const held of role.closure) global.add(held);
        continue;
      }
      for (const held of role.closure) {
        const records = scoped.has(held) ? scoped.get(held) : new Set<string>();
        if (on === undefined) scoped.set(held, undefined);
        else scoped.set(held, records?.add(on));
      }
    }
  }
  return { global, scoped, each };
}

/** Each name of a role with the record it is given on: null without one, undefined where that cannot be read. */
function* namesFrom(
  source: RoleSource,
  person: Row,
  key: Scalar,
  reading: Reading,
): Iterable<{ name: unknown; on: string | undefined }> {
  if (source.kind === "field") {
    const value = rawValue(person, source.field.name);
    if (value === null || value === undefined) return;
    for (const name of Array.isArray(value) ? value : [value]) yield { name, on: undefined };
    return;
  }
  const { table, person: holder, role, on } = source;
  if (reading.source?.referring === undefined) {
    throw portierError("needs-source", { what: `the roles from "${table.name}"`, method: "referring" });
  }
  for (const row of reading.source.referring(table.name, holder.name, String(key))) {
    if (holder.type.canonical(rawValue(row, holder.name)) !== key) continue;
    const name = rawValue(row, role.name);
    if (name === null || name === undefined) continue;
    const record = on && rawValue(row, on.name);
    if (record === null) continue;
    const address = on === undefined ? undefined : on.type.canonical(record);
    if (on !== undefined && address === undefined) reading.badData(on, row);
    yield { name, on: address === undefined ? undefined : String(address) };
  }
}

function findRole(schema: Schema, name: unknown, source: RoleSource): Role {
  const role = typeof name === "string" ? schema.roles.get(name) : undefined;
  const where = source.kind === "field" ? `"${source.field.name}" of the person` : `"${source.table.name}"`;
  if (role === undefined) {
    throw portierError("unknown-role", { name: String(name), candidates: schema.roles.keys(), where });
  }
  const scope = source.kind === "field" ? undefined : source.on?.type.target;
  if (role.scope !== scope) throw portierError("wrong-scope", { role: role.name, scope: role.scope, where });
  return role;
}

/** Decides in which groups a person is and which roles come through them; each once, when it is first asked for. */
export class Memberships {
  readonly #ruleset: Ruleset;
  readonly #person: Row;
  readonly #key: Scalar;
  readonly given: GivenRoles;
  readonly #known: Known;
  readonly #reading: Reading;
  readonly #decided = new Map<string, Truth>();

  constructor(ruleset: Ruleset, person: Row, key: Scalar, given: GivenRoles, known: Known, reading: Reading) {
    this.#ruleset = ruleset;
    this.#person = person;
    this.#key = key;
    this.given = given;
    this.#known = known;
    this.#reading = reading;
  }

  /** Whether the person holds a role or is in a group. Unknown where a condition on the person is. */
  of(name: string): Truth {
    const decided = this.#decided.get(name);
    if (decided !== undefined) return decided;
    const group = this.#ruleset.groups.get(name);
    const truth = group === undefined ? this.#role(name) : this.#group(group);
    this.#decided.set(name, truth);
    return truth;
  }

  #role(name: string): Truth {
    if (this.given.global.has(name)) return True;
    let greatest: Truth = False;
    for (const group of this.#ruleset.groups.values()) {
      if (!group.roles.some((role) => this.#ruleset.schema.roles.get(role)?.closure.has(name) === true)) continue;
      greatest = Math.max(greatest, this.of(group.name)) as Truth;
    }
    return greatest;
  }

  #group({ members, where, without }: Group): Truth {
    return Math.min(this.#any(members), this.#test(where), not(this.#any(without))) as Truth;
  }

  #any(members: readonly Member[]): Truth {
    return Math.max(False, ...members.map((member) => this.meets(member))) as Truth;
  }

  /** Whether one entry of a group's lists is met. */
  meets(member: Member): Truth {
    switch (member.kind) {
      case "member":
        return this.of(member.name);
      case "person":
        return constantOf(member.key) === this.#key ? True : False;
      case "below":
        return this.#isBelow(constantOf(member.key));
      case "where":
        return this.#test(member.condition);
      default:
        return member satisfies never;
    }
  }

  #test(condition: Expression): Truth {
    return compileTest(specialize(condition, this.#known))(this.#person, this.#reading);
  }

  /** The person or anybody they are below of, at any distance. */
  #isBelow(above: Scalar | null): Truth {
    if (above === this.#key) return True;
    const people = this.#ruleset.schema.people;
    const line = people?.manager;
    const key = people && singleKey(people.table);
    if (above === null || line === undefined || key === undefined) return False;
    const asker: Operand = { kind: "constant", type: key.type, value: above };
    // "Above" is looked at from below: the one named is above this person's record.
    const expression: Expression = { kind: "above", path: [key], line, asker };
    return compileTest(expression)(this.#person, { ...this.#reading, source: this.#withSelf() });
  }

  /** The source, in which this person's own record is the one that the session was opened with. */
  #withSelf() {
    const { source } = this.#reading;
    const people = this.#ruleset.schema.people?.table.name;
    const self = String(this.#key);
    return {
      find: (table: string, key: string) => {
        if (table === people && key === self) return this.#person;
        if (source === undefined) throw portierError("needs-source", { what: "a group of everybody below somebody" });
        return source.find(table, key);
      },
    };
  }
}

function constantOf(operand: Operand): Scalar | null {
  return operand.kind === "constant" ? operand.value : null;
}

/** A membership that could not be read fails where it is asked for; until then it is told apart by its fault. */
export interface Membership {
  readonly read: () => Truth;
  readonly fact: unknown;
}

export function readMembership(memberships: Memberships, name: string): Membership {
  try {
    const truth = memberships.of(name);
    return { read: () => truth, fact: truth === Bad ? 1 : truth };
  } catch (fault) {
    const read = () => {
      throw fault;
    };
    return { read, fact: { fault: String(fault) } };
  }
}
