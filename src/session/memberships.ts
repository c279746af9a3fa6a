import { compileTest } from "../conditions/evaluate.js";
import type { Expression, Operand } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { type Known, specialize } from "../conditions/specialize.js";
import { Bad, False, not, True, type Truth } from "../conditions/truth.js";
import type { Group, Member } from "../rules/groups.js";
import type { Line } from "../rules/lines.js";
import type { Ruleset } from "../rules/ruleset.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Role } from "../schema/schema.js";
import type { AssignedRole, AssignedRoles } from "./assigned-roles.js";

/** What memberships are worked out from. */
export interface MembershipFacts {
  readonly ruleset: Ruleset;
  readonly person: Row;
  /** The person's key in canonical form. */
  readonly key: Scalar;
  readonly given: AssignedRoles;
  readonly known: Known;
  readonly reading: Reading;
  /** Roles that are not acted in, where somebody acts for this person. */
  readonly withheld: ReadonlySet<string>;
  /** Whoever acts for this person: what they hold themselves excludes what they act in. */
  readonly actor: Memberships | undefined;
  /** Told of two roles that are held and exclude each other. */
  readonly onConflict: (role: string, other: string) => void;
}

/**
 * Decides in which groups a person is and which roles come through them; each once, when it is first asked for.
 *
 * Roles that exclude each other, of which it cannot be excluded that both are held by what is stored, are *unknown*, and so
 * is all that comes with what brings them; so are roles that are withheld from whoever acts for the person.
 */
export class Memberships {
  readonly #facts: MembershipFacts;
  readonly #decided = new Map<string, Truth>();
  readonly #sound = new Map<string, Truth>();
  /** The same person as what is stored says, as stored, with certainty. */
  readonly #stored: Memberships | undefined;

  constructor(facts: MembershipFacts, how: "checked" | "as stored" = "checked") {
    this.#facts = facts;
    const isUncertain = facts.withheld.size > 0 || facts.ruleset.hasExclusiveRoles;
    if (how === "checked" && isUncertain) this.#stored = new Memberships(facts, "as stored");
  }

  /** The roles that are given and count for certain, and the groups that claims name. */
  get given(): AssignedRoles {
    const { given } = this.#facts;
    return {
      ...given,
      roles: given.roles.filter(({ role, truth }) => Math.min(truth, this.#soundness(role)) === True),
    };
  }

  /** Whether the person holds a role or is in a group. Unknown where a condition on the person is. */
  of(name: string): Truth {
    const decided = this.#decided.get(name);
    if (decided !== undefined) return decided;
    const group = this.#facts.ruleset.groups.get(name);
    const line = this.#facts.ruleset.lines.get(name);
    const truth = group !== undefined ? this.#group(group) : line !== undefined ? this.#line(line) : this.#role(name);
    this.#decided.set(name, truth);
    return truth;
  }

  /** The addresses of the records that a scoped role is held on; undefined where that cannot be told. */
  heldOn(name: string): ReadonlySet<string> | undefined {
    const records = new Set<string>();
    for (const { role, on, truth } of this.#facts.given.roles) {
      if (!role.closure.has(name)) continue;
      if (on === undefined || Math.min(truth, this.#soundness(role)) !== True) return undefined;
      records.add(on);
    }
    return records;
  }

  /** Whether a role is held at all: a scoped one, on any record. */
  holds(name: string): Truth {
    if (this.#facts.ruleset.schema.roles.get(name)?.scope === undefined) return this.of(name);
    const records = this.heldOn(name);
    return records === undefined ? Bad : records.size > 0 ? True : False;
  }

  /** Whether what a role brings counts: True, or Bad where it is withheld or excluded by another that is held. */
  #soundness(role: Role): Truth {
    if (this.#stored === undefined) return True;
    const known = this.#sound.get(role.name);
    if (known !== undefined) return known;
    const { withheld } = this.#facts;
    const isSound = ![...role.closure].some((held) => withheld.has(held) || this.#isExcluded(held));
    this.#sound.set(role.name, isSound ? True : Bad);
    return isSound ? True : Bad;
  }

  #isExcluded(name: string): boolean {
    const exclusive = this.#facts.ruleset.schema.roles.get(name)?.exclusive ?? [];
    // Where it cannot be excluded that both are held, neither counts for certain.
    const mayBeStored = (role: string) => this.#stored !== undefined && this.#stored.holds(role) !== False;
    const { actor, onConflict } = this.#facts;
    for (const other of exclusive) {
      const isOthers = actor !== undefined && actor.storedHolds(other) !== False;
      if (!mayBeStored(name) || !(mayBeStored(other) || isOthers)) continue;
      onConflict(name, other);
      return true;
    }
    return false;
  }

  /** The same person, if they were given some roles and groups, and were not in or held some others. */
  supposing(are: readonly string[], areNot: readonly string[]): Memberships {
    const { given, ruleset } = this.#facts;
    const kept = given.roles.filter(({ role }) => !areNot.some((name) => role.closure.has(name)));
    const added = are.flatMap((name): AssignedRole[] => {
      const role = ruleset.schema.roles.get(name);
      return role === undefined || role.scope !== undefined ? [] : [{ role, on: undefined, source: "", truth: True }];
    });
    const supposed: AssignedRoles = { roles: [...kept, ...added], groups: given.groups };
    const made = new Memberships({ ...this.#facts, given: supposed, onConflict: () => {} });
    for (const one of made.#stored === undefined ? [made] : [made, made.#stored]) {
      for (const name of are) {
        if (ruleset.groups.has(name) || ruleset.lines.has(name)) one.#decided.set(name, True);
      }
      for (const name of areNot) one.#decided.set(name, False);
    }
    return made;
  }

  /** {@link holds} by what is stored, whatever excludes it. */
  storedHolds(name: string): Truth {
    return (this.#stored ?? this).holds(name);
  }

  #role(name: string): Truth {
    const { given, ruleset } = this.#facts;
    let greatest: Truth = False;
    for (const { role, on, truth } of given.roles) {
      if (on !== undefined || !role.closure.has(name)) continue;
      greatest = Math.max(greatest, Math.min(truth, this.#soundness(role))) as Truth;
    }
    for (const { group, role } of ruleset.carriers.get(name) ?? []) {
      if (greatest === True) break;
      greatest = Math.max(greatest, Math.min(this.of(group.name), this.#soundness(role))) as Truth;
    }
    return greatest;
  }

  #group({ name, members, where, without }: Group): Truth {
    const named = this.#facts.given.groups.filter(({ group }) => group === name);
    const isNamed = Math.max(False, ...named.map(({ truth }) => truth));
    return Math.min(Math.max(isNamed, this.#any(members)), this.#test(where), not(this.#any(without))) as Truth;
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
        return constantOf(member.key) === this.#facts.key ? True : False;
      case "along":
        return this.#along(member);
      case "where":
        return this.#test(member.condition);
      default:
        return member satisfies never;
    }
  }

  #test(condition: Expression): Truth {
    const { person, known, reading } = this.#facts;
    return compileTest(specialize(condition, known))(person, reading);
  }

  /** Where the line begins they are by themselves, whatever is stored; others on it by what is stored of them. */
  #line(line: Line): Truth {
    const own = this.of(line.of);
    return own === True ? own : (Math.max(own, this.#test(line.test)) as Truth);
  }

  #along(member: Along): Truth {
    const { ruleset, person, key, reading } = this.#facts;
    return isAlong(ruleset, person, key, member, reading);
  }
}

type Along = Extract<Member, { readonly kind: "along" }>;

/** Whether a person is the one who is named, or above or below them. */
export function isAlong(ruleset: Ruleset, person: Row, key: Scalar, member: Along, reading: Reading): Truth {
  if (constantOf(member.key) === key) return True;
  const { people } = ruleset.schema;
  // The person's own record is the one that the session was opened with.
  const find: Source["find"] = (table, one) => {
    if (table === people?.table.name && one === String(key)) return person;
    if (reading.source === undefined) throw portierError("needs-source", { what: `"${member.text}" in a group` });
    return reading.source.find(table, one);
  };
  return compileTest(member.test)(person, { ...reading, source: { ...reading.source, find } });
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
    return { read: () => truth, fact: truth };
  } catch (fault) {
    const read = () => {
      throw fault;
    };
    return { read, fact: { fault: String(fault) } };
  }
}
