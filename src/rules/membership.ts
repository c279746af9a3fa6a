import { describeOperand } from "../conditions/describe.js";
import { always, and, type Expression, never, not, type Operand, or } from "../conditions/expression.js";
import { printName } from "../conditions/printer.js";
import type { PersonMembers } from "../conditions/resolve.js";
import { specialize, specializeOperand } from "../conditions/specialize.js";
import { Bad, Unknown } from "../conditions/truth.js";
import { limits } from "../schema/limits.js";
import { type Field, type People, type Role, type RoleSource, type Schema, singleKey } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { scalarTypes } from "../schema/types/scalars.js";
import type { Carrier, Group, Member } from "./groups.js";
import { back, type Line, readLine, type WrittenLine } from "./lines.js";

export type Link = Extract<RoleSource, { readonly kind: "link" }>;

/** Where the parts of a membership are found. */
export interface MembershipSource {
  readonly schema: Schema;
  readonly group: (name: string) => Group | undefined;
  /** The groups that bring a role. */
  readonly carriers: (role: string) => readonly Carrier[];
  /** What makes a person other than the one at hand a member, as a condition on their own record. */
  readonly members: { readonly of: (name: string) => Expression };
}

/** What a membership comes down to, besides groups and lines; as conditions on the person's own record. */
export interface MembershipLeaves {
  /** A role, group or line that another one leads to: {@link membership} again. */
  readonly member: (name: string) => Expression;
  /** The role, or one that includes it, is given to them, and counts. */
  readonly given: (role: string) => Expression;
  /** What a role that a group carries brings counts; undefined where it always does. */
  readonly sound: (role: string) => Expression | undefined;
  /** They are assigned to the group by its name; undefined where nobody can be. */
  readonly assigned: (group: string) => Expression | undefined;
}

/** Whether a person holds a role, is in a group or belongs to a line, as a condition on their own record. */
export function membership(name: string, source: MembershipSource, leaves: MembershipLeaves): Expression {
  const line = readLine(name);
  if (line !== undefined) return or([leaves.member(line.of), lineTest(line, source)]);
  const group = source.group(name);
  if (group !== undefined) return inGroup(group, source, leaves);
  const carried = source.carriers(name).map((carrier) => {
    const sound = leaves.sound(carrier.role.name);
    return and([leaves.member(carrier.group.name), ...(sound === undefined ? [] : [sound])]);
  });
  return or([leaves.given(name), ...carried]);
}

/** Whether somebody is where a line begins, on the way back along the managers from the person whose record this is. */
function lineTest({ direction, levels, of }: WrittenLine, { schema, members }: LineSource): Expression {
  const { people } = schema;
  return people === undefined ? never : alongLine(people, back[direction], levels, members.of(of));
}

interface LineSource {
  readonly schema: Schema;
  readonly members: { readonly of: (name: string) => Expression };
}

/** The lines among some names, as memberships know them. */
export function linesAmong(names: Iterable<string>, source: LineSource): Map<string, Line> {
  const lines = new Map<string, Line>();
  for (const name of names) {
    const line = readLine(name);
    if (line !== undefined) lines.set(name, { of: line.of, test: lineTest(line, source) });
  }
  return lines;
}

function inGroup({ name, members, where, without }: Group, source: MembershipSource, leaves: MembershipLeaves) {
  const any = (list: readonly Member[]) => or(list.map((member) => meets(member, source, leaves)));
  const assigned = leaves.assigned(name);
  return and([
    or([any(members), ...(assigned === undefined ? [] : [assigned])]),
    ofOwnRecord(where),
    not(any(without)),
  ]);
}

function meets(member: Member, source: MembershipSource, leaves: MembershipLeaves): Expression {
  switch (member.kind) {
    case "member":
      return leaves.member(member.name);
    case "where":
      return ofOwnRecord(member.condition);
    case "person":
      return isPerson(member.key, source.schema);
    case "along":
      return or([isPerson(member.key, source.schema), member.test]);
    default:
      return member satisfies never;
  }
}

function isPerson(key: Operand, { people }: Schema): Expression {
  const own = people && singleKey(people.table);
  if (own === undefined) return or([]);
  return { kind: "compare", op: "=", left: read(own), right: key };
}

/** Somebody who is above or below one person, who is named, at most some levels away. */
export function awayFrom(
  key: Operand,
  direction: "above" | "below",
  levels: number | undefined,
  schema: Schema,
): Expression {
  const { people } = schema;
  const own = people && singleKey(people.table);
  if (people?.manager === undefined || own === undefined) return or([]);
  if (direction === "below" && levels === undefined) {
    // "Above" is looked at from below: the one named is above this person's record.
    return { kind: "above", path: [own], line: people.manager, asker: key };
  }
  return alongLine(people, back[direction], levels, isPerson(key, schema));
}

function alongLine(
  people: People,
  direction: "above" | "below",
  levels: number | undefined,
  condition: Expression,
): Expression {
  const key = singleKey(people.table);
  const { manager: line } = people;
  if (key === undefined || line === undefined) return or([]);
  return { kind: "line", direction, levels, line, key, condition, quantifier: "some" };
}

function read(field: Field, kind: "field" | "outer" = "field"): Operand {
  return { kind, type: field.type, path: [field] };
}

/** A condition of a group: `me` in it is the person whose record it is about, whoever the current user is. */
function ofOwnRecord(condition: Expression, kind: "field" | "outer" = "field"): Expression {
  switch (condition.kind) {
    case "and":
      return and(condition.terms.map((term) => ofOwnRecord(term, kind)));
    case "or":
      return or(condition.terms.map((term) => ofOwnRecord(term, kind)));
    case "not":
      return not(ofOwnRecord(condition.term, kind));
    case "exists": {
      const { link } = condition;
      const value =
        link &&
        specializeOperand(link.value, (operand) => (operand.kind === "me" ? { ...operand, kind: "outer" } : operand));
      return {
        ...condition,
        condition: ofOwnRecord(condition.condition, "outer"),
        link: link && value && { ...link, value },
      };
    }
    default:
      return specialize(condition, (operand) => (operand.kind === "me" ? { ...operand, kind } : operand));
  }
}

/**
 * Who holds roles and is in groups by what is stored, as conditions on a person's own record. What a sign-in claims is known
 * of the current user alone. A person who is inactive or not marked holds nothing for certain: unknown, where they would.
 */
export class StoredMembers implements PersonMembers {
  readonly groups: ReadonlySet<string>;
  readonly #source: MembershipSource;
  readonly #people: People | undefined;
  readonly #tooLarge: (what: string) => void;
  readonly #known = new Map<string, Expression>();
  /** What is being worked out: a circle is reported elsewhere, and must end here. */
  readonly #open = new Set<string>();

  /** `tooLarge` is told of a membership that comes to more than {@link limits.membershipTests} single tests. */
  constructor(
    groups: ReadonlySet<string>,
    source: Omit<MembershipSource, "members">,
    tooLarge: (what: string) => void,
  ) {
    this.groups = groups;
    this.#source = { ...source, members: this };
    this.#people = source.schema.people;
    this.#tooLarge = tooLarge;
  }

  of(name: string): Expression {
    return this.#once(`counts ${name}`, () => and([this.#member(name, "given"), this.#isActive()]));
  }

  ofMe(name: string): Expression {
    return { kind: "open", name };
  }

  holdsOn(role: Role, person: Operand, record: Operand): Expression {
    const people = this.#people?.table.name ?? "";
    const [doubted, sure] = this.#bringing(role.name);
    const name = `${printName(role.name, true)} of ${describeOperand(record)}`;
    const test = (roles: readonly string[], sound: readonly Expression[]): Expression => ({
      kind: "person",
      key: person,
      people,
      member: role.name,
      name,
      condition: and([...sound, this.#isActive()]),
      here: this.#holdsOneOn(roles, role.scope, person, record),
      quantifier: "some",
    });
    const surely = sure.length > 0 || doubted.length === 0 ? [test(sure, [])] : [];
    return or([...surely, ...doubted.map((one) => test([one], [this.#sound(one)]))]);
  }

  /** A record of a link table gives one of the roles to the one on the other. Unknown where one of the two is null. */
  #holdsOneOn(roles: readonly string[], scope: string | undefined, person: Operand, record: Operand): Expression {
    const isNull = or([person, record].map((operand) => ({ kind: "is-null", operand })));
    const held = this.#links().flatMap((link): Expression[] => {
      const { on } = link;
      if (on === undefined || (!link.isMixed && on.type.target !== scope)) return [];
      const scoped: Operand = link.isMixed ? { kind: "as-address", type: scalarTypes.text, operand: record } : record;
      return [givenIn(link, roles, person, { kind: "compare", op: "=", left: read(on), right: fromInside(scoped) })];
    });
    return or([and([isNull, { kind: "truth", value: Unknown }]), ...held]);
  }

  #isActive(): Expression {
    const active = this.#people?.active;
    if (active === undefined) return always;
    const isMarked = { kind: "constant", type: active.type, value: true } as const;
    return or([
      { kind: "compare", op: "=", left: read(active), right: isMarked },
      { kind: "truth", value: Unknown },
    ]);
  }

  #member(name: string, how: "given" | "stored"): Expression {
    return this.#once(`${how} ${name}`, () => {
      const isStored = how === "stored";
      return membership(name, this.#source, {
        member: (one) => this.#member(one, how),
        given: (role) => (isStored ? this.#givenRole(this.#bringing(role).flat()) : this.#countingRole(role)),
        sound: (role) => (isStored ? undefined : this.#sound(role)),
        assigned: (group) => (this.#source.schema.kept === undefined ? undefined : this.#assigned(group)),
      });
    });
  }

  #countingRole(role: string): Expression {
    const [doubted, sure] = this.#bringing(role);
    return or([this.#givenRole(sure), ...doubted.map((one) => and([this.#givenRole([one]), this.#sound(one)]))]);
  }

  /** The role itself, and those that include it: first those that bring something which another role excludes. */
  #bringing(name: string): readonly [doubted: readonly string[], sure: readonly string[]] {
    const roles = [...this.#source.schema.roles.values()].filter(({ closure }) => closure.has(name));
    const isDoubted = (role: Role) => exclusionsOf(role, this.#source.schema).length > 0;
    const names = (some: readonly Role[]) => some.map((role) => role.name);
    return [names(roles.filter(isDoubted)), names(roles.filter((role) => !isDoubted(role)))];
  }

  /** True, or bad where something that the role brings may be held together with what excludes it. */
  #sound(name: string): Expression {
    const role = this.#source.schema.roles.get(name);
    if (role === undefined) return always;
    return this.#once(`sound ${name}`, () =>
      and(
        exclusionsOf(role, this.#source.schema).map(([one, other]) =>
          or([not(this.#storedRole(one)), not(this.#storedRole(other)), { kind: "truth", value: Bad }]),
        ),
      ),
    );
  }

  /** Whether a role is held by what is stored; a scoped one on any record. */
  #storedRole(name: string): Expression {
    const scope = this.#source.schema.roles.get(name)?.scope;
    if (scope === undefined) return this.#member(name, "stored");
    const roles = this.#bringing(name).flat();
    const links = this.#links().filter(({ on, isMixed }) => isMixed || on?.type.target === scope);
    return or(links.map((link) => givenIn(link, roles, this.#ownKey(), isSet(link.on))));
  }

  /** Whether one of some roles is given in a field, or in a link table for all records. */
  #givenRole(roles: readonly string[]): Expression {
    const fields = (this.#people?.roles ?? []).flatMap((source) =>
      source.kind === "field" ? [inField(source.field, roles)] : [],
    );
    const links = this.#links().flatMap((link) =>
      link.isMixed || link.on === undefined ? [givenIn(link, roles, this.#ownKey(), isUnset(link.on))] : [],
    );
    return or([...fields, ...links]);
  }

  #assigned(group: string): Expression {
    const links = this.#links().filter(({ isMixed }) => isMixed);
    return or(links.map((link) => givenIn(link, [group], this.#ownKey(), isUnset(link.on))));
  }

  #links(): readonly Link[] {
    return (this.#people?.roles ?? []).filter((source): source is Link => source.kind === "link");
  }

  #ownKey(): Operand {
    return read(singleKey((this.#people as People).table) as Field);
  }

  #once(id: string, make: () => Expression): Expression {
    const known = this.#known.get(id);
    if (known !== undefined) return known;
    if (this.#open.has(id)) return never;
    this.#open.add(id);
    const made = make();
    this.#open.delete(id);
    const isLarge = countTests(made) > limits.membershipTests;
    if (isLarge) this.#tooLarge(id.slice(id.indexOf(" ") + 1));
    const kept = isLarge ? never : made;
    this.#known.set(id, kept);
    return kept;
  }
}

/** Pairs of a role that this one brings and one that excludes it. */
export function exclusionsOf({ closure }: Role, { roles }: Schema): (readonly [string, string])[] {
  return [...closure].flatMap((held) => [...(roles.get(held)?.exclusive ?? [])].map((other) => [held, other] as const));
}

/** Whether a record of a link table counts now. */
export function isRunningLink({ from, until }: Pick<Link, "from" | "until">): Expression {
  const ends = [from, until].flatMap((field, index): Expression[] => {
    if (field === undefined) return [];
    const left = read(field);
    const right: Operand = { kind: "request", type: field.type, name: "now" };
    const isWithin: Expression = { kind: "compare", op: index === 0 ? "<=" : ">", left, right };
    return [or([{ kind: "is-null", operand: left }, isWithin])];
  });
  return and(ends);
}

/** Whether a link table gives one of some roles to a person of the record at hand. */
function givenIn(link: Link, roles: readonly string[], person: Operand, besides: Expression): Expression {
  const names = constantsOf(link.role.type, roles);
  if (names.length === 0) return never;
  const value = fromInside(person);
  const condition = and([
    { kind: "compare", op: "=", left: read(link.person), right: value },
    { kind: "in", operand: read(link.role), items: names },
    besides,
    isRunningLink(link),
  ]);
  return { kind: "exists", table: link.table.name, condition, link: { path: [link.person], value } };
}

function inField(field: Field, roles: readonly string[]): Expression {
  const held = read(field);
  const { element } = field.type;
  const names = constantsOf(element ?? field.type, roles);
  if (names.length === 0) return never;
  const isHeld: Expression =
    element === undefined
      ? { kind: "in", operand: held, items: names }
      : or(names.map((operand) => ({ kind: "in-list", operand, list: held })));
  return and([not({ kind: "is-null", operand: held }), isHeld]);
}

/** Those that a value of the type can be. */
function constantsOf(type: FieldType, names: readonly string[]): Operand[] {
  return names
    .filter((name) => type.choices?.includes(name) ?? true)
    .map((value) => ({ kind: "constant", type, value }));
}

const isSet = (field: Field | undefined): Expression => not(isUnset(field));

function isUnset(field: Field | undefined): Expression {
  return field === undefined ? always : { kind: "is-null", operand: read(field) };
}

/** A value of the record at hand, as an `exists` that asks for it sees it. */
function fromInside(operand: Operand): Operand {
  switch (operand.kind) {
    case "field":
      return { ...operand, kind: "around" };
    case "as-address":
      return { ...operand, operand: fromInside(operand.operand) };
    default:
      return operand;
  }
}

const sizes = new WeakMap<Expression, number>();

/** How many single tests an expression comes to when it is written out; what it shares with others counts each time. */
function countTests(expression: Expression): number {
  const known = sizes.get(expression);
  if (known !== undefined) return known;
  const parts =
    expression.kind === "and" || expression.kind === "or"
      ? expression.terms
      : expression.kind === "not"
        ? [expression.term]
        : "condition" in expression
          ? [expression.condition]
          : [];
  const size = parts.reduce((sum, part) => sum + countTests(part), 1);
  sizes.set(expression, size);
  return size;
}

const membersOf = new WeakMap<Membered, StoredMembers>();

interface Membered {
  readonly schema: Schema;
  readonly groups: ReadonlyMap<string, Group>;
  readonly carriers: ReadonlyMap<string, readonly Carrier[]>;
}

/** Who is what in a document that has been read: what is too large was refused then. */
export function storedMembers(ruleset: Membered): StoredMembers {
  const known = membersOf.get(ruleset);
  if (known !== undefined) return known;
  const { schema, groups, carriers } = ruleset;
  const source = {
    schema,
    group: (name: string) => groups.get(name),
    carriers: (role: string) => carriers.get(role) ?? [],
  };
  const members = new StoredMembers(new Set(groups.keys()), source, () => {});
  membersOf.set(ruleset, members);
  return members;
}
