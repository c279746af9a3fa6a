import { describeOperand } from "../conditions/describe.js";
import { always, and, type Expression, never, not, type Operand, or } from "../conditions/expression.js";
import { printName } from "../conditions/printer.js";
import type { PersonMembers } from "../conditions/resolve.js";
import { Bad, Unknown } from "../conditions/truth.js";
import { limits } from "../schema/limits.js";
import { type Field, type People, type Role, type RoleSource, type Schema, singleKey } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { scalarTypes } from "../schema/types/scalars.js";
import type { Carrier, Group } from "./groups.js";
import { type MembershipSource, membership } from "./membership.js";

export type Link = Extract<RoleSource, { readonly kind: "link" }>;

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
    const [excludable, sure] = this.#bringing(role.name);
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
    const surely = sure.length > 0 || excludable.length === 0 ? [test(sure, [])] : [];
    return or([...surely, ...excludable.map((one) => test([one], [this.#sound(one)]))]);
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
    const [excludable, sure] = this.#bringing(role);
    return or([this.#givenRole(sure), ...excludable.map((one) => and([this.#givenRole([one]), this.#sound(one)]))]);
  }

  /** The role itself, and those that include it: first those that bring something which another role excludes. */
  #bringing(name: string): readonly [excludable: readonly string[], sure: readonly string[]] {
    const roles = [...this.#source.schema.roles.values()].filter(({ closure }) => closure.has(name));
    const isExcludable = (role: Role) => exclusionsOf(role, this.#source.schema).length > 0;
    const names = (some: readonly Role[]) => some.map((role) => role.name);
    return [names(roles.filter(isExcludable)), names(roles.filter((role) => !isExcludable(role)))];
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

function read(field: Field): Operand {
  return { kind: "field", type: field.type, path: [field] };
}
