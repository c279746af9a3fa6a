import type { Row, Source } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { splitAddress } from "../schema/address.js";
import type { Facts, Problem, ProblemCode } from "../schema/problems.js";
import { type KeptTables, type Role, type Schema, singleKey } from "../schema/schema.js";
import type { Memberships } from "../session/memberships.js";
import type { Portier } from "../session/portier.js";
import type { Session } from "../session/session.js";
import { type Assignment, assignmentOf, type Delegation, delegationOf, instantIn } from "./assignment.js";
import { type ChangeWarning, warningsOf } from "./change-warnings.js";
import type { Giver } from "./giver.js";
import { givingProblem } from "./giving-problem.js";
import { type Holding, holdingOf, mayGive, membershipsOf, otherHolders, turningPoints } from "./holdings.js";
import { type StoredWrite, withWrites } from "./overlay.js";
import { momentOf, type RoleChange } from "./role-change.js";

/** What comes of a change that was judged. Nothing is written yet. */
export type ChangeJudgement =
  | {
      readonly accepted: true;
      readonly writes: readonly StoredWrite[];
      readonly warnings: readonly ChangeWarning[];
    }
  | {
      readonly accepted: false;
      /** `unconfirmed`: it is accepted once these warnings are confirmed. */
      readonly reason: "refused" | "unconfirmed";
      readonly problems: readonly Problem[];
      readonly warnings: readonly ChangeWarning[];
    };

/** Why a change is refused, thrown inside this file only: the first reason ends the judging. */
class Refused extends Error {
  readonly problem: Problem;

  constructor(why: Problem) {
    super(why.message);
    this.problem = why;
  }
}

function refuse<C extends ProblemCode>(code: C, facts: Facts<C>): never {
  throw new Refused(givingProblem(code, facts));
}

/**
 * Judges a change of who holds what, on a source that holds the state before it. Pure: asked again on the same source it
 * answers the same, but for the ids of new records, which come from `newId`.
 */
export function judgeChange(
  portier: Portier,
  source: Source,
  change: RoleChange,
  giver: Giver,
  newId: () => string,
): ChangeJudgement {
  try {
    const judge = new Judge(portier, source, giver, newId);
    const writes = judge.writesOf(change);
    const after = withWrites(source, portier.schema, writes);
    judge.checkAfter(change, writes, after);
    const warnings = warningsOf(portier, { source, after, change, writes, giver });
    const open = warnings.filter(({ id }) => !giver.confirmed.includes(id));
    if (open.length > 0) return { accepted: false, reason: "unconfirmed", problems: [], warnings };
    return { accepted: true, writes, warnings };
  } catch (error) {
    if (!(error instanceof Refused)) throw error;
    return { accepted: false, reason: "refused", problems: [error.problem], warnings: [] };
  }
}

/**
 * Judges the gift of a role by nobody, which is there for the first one: it is refused as soon as there is anybody who
 * may give the role.
 */
export function judgeFirst(
  portier: Portier,
  source: Source,
  change: Extract<RoleChange, { kind: "assign" }>,
  now: string,
  newId: () => string,
): ChangeJudgement {
  try {
    const judge = new Judge(portier, source, { person: "", now, confirmed: [] }, newId);
    return { accepted: true, writes: judge.firstWrites(change), warnings: [] };
  } catch (error) {
    if (!(error instanceof Refused)) throw error;
    return { accepted: false, reason: "refused", problems: [error.problem], warnings: [] };
  }
}

/**
 * Judges writes that no person makes, such as those of a provisioning client: nobody's right to give is asked, but roles
 * that exclude each other and the last holders of a role are kept.
 */
export function judgeWrites(
  portier: Portier,
  source: Source,
  writes: readonly StoredWrite[],
  now: string,
): readonly Problem[] {
  try {
    const judge = new Judge(portier, source, { person: "", now, confirmed: [] }, () => "");
    judge.checkState(writes, withWrites(source, portier.schema, writes));
    return [];
  } catch (error) {
    if (error instanceof Refused) return [error.problem];
    throw error;
  }
}

class Judge {
  readonly #portier: Portier;
  readonly #schema: Schema;
  readonly #source: Source;
  readonly #giver: Giver;
  readonly #newId: () => string;
  #own: Memberships | undefined;

  constructor(portier: Portier, source: Source, giver: Giver, newId: () => string) {
    this.#portier = portier;
    this.#schema = portier.schema;
    this.#source = source;
    this.#giver = giver;
    this.#newId = newId;
  }

  /** The records that a change writes, if the giver may make it. */
  writesOf(change: RoleChange): StoredWrite[] {
    const { person, now, claims, actedBy } = this.#giver;
    this.#own = membershipsOf(this.#portier, this.#source, person, { now, claims, actedBy });
    if (this.#own === undefined) refuse("not-active", { person: actedBy ?? person });
    switch (change.kind) {
      case "assign":
        return [this.#assign(change, person)];
      case "revoke":
        return this.#assigned(change).map((row) => ({ table: this.#kept.assignments, before: row, after: undefined }));
      case "limit":
        return this.#limit(change);
      case "delegate":
        return [this.#delegate(change)];
      case "end":
        return this.#end(change);
      case "person":
        return [this.#changePerson(change)];
      default:
        return change satisfies never;
    }
  }

  firstWrites(change: Extract<RoleChange, { kind: "assign" }>): StoredWrite[] {
    const { role } = this.#roleOf(change);
    const giver = role.givenBy[0];
    if (giver === undefined) refuse("may-not-give", { role: role.name, givers: [], with: undefined });
    const { now } = this.#giver;
    const everybody = this.#source.all?.(this.#people.table.name) ?? [];
    for (const row of everybody) {
      const key = String(row[this.#people.key.name]);
      if (mayGive(membershipsOf(this.#portier, this.#source, key, { now }), role, change.on ?? null)) {
        refuse("nobody-first", { role: role.name, givers: giverNames(role) });
      }
    }
    const write = this.#assignment(change, null);
    const after = withWrites(this.#source, this.#schema, [write]);
    this.#checkExclusive(change.person, after);
    return [write];
  }

  /** What must hold once it is written. */
  checkAfter(change: RoleChange, writes: readonly StoredWrite[], after: Source): void {
    this.checkState(writes, after);
    for (const person of this.#touched(writes)) {
      this.#checkGained(person, after, change.kind === "assign" ? change.role : undefined);
    }
    if (change.kind === "delegate") this.#checkDelegated(String(writes[0]?.after?.["of"]), change.to, after);
  }

  /** What must hold of everybody, whoever writes it. */
  checkState(writes: readonly StoredWrite[], after: Source): void {
    for (const person of this.#touched(writes)) {
      this.#checkExclusive(person, after);
      this.#checkLast(person, after);
    }
  }

  /** The persons whose roles some writes may change. */
  #touched(writes: readonly StoredWrite[]): Set<string> {
    const { delegations, assignments } = this.#kept;
    const touched = new Set<string>();
    for (const { table, before, after } of writes) {
      const stored = after ?? before;
      if (table !== delegations)
        touched.add(String(stored?.[table === assignments ? "person" : this.#people.key.name]));
    }
    return touched;
  }

  get #kept(): KeptTables {
    return this.#schema.kept ?? refuse("not-assigned", {});
  }

  get #people() {
    const table = this.#schema.people?.table;
    const key = table && singleKey(table);
    if (table === undefined || key === undefined) return refuse("not-assigned", {});
    return { table, key };
  }

  #assign(change: Extract<RoleChange, { kind: "assign" }>, by: string): StoredWrite {
    const { role, on } = this.#roleOf(change);
    this.#mustGive(role, on, undefined);
    if (this.#giver.actedBy !== undefined && change.person === this.#giver.actedBy) {
      refuse("not-while-acting", { what: "give themselves a role" });
    }
    return this.#assignment(change, by);
  }

  #assignment(change: Extract<RoleChange, { kind: "assign" }>, givenBy: string | null): StoredWrite {
    const { role, on } = this.#roleOf(change);
    const key = this.#personKey(change.person);
    const { from, until } = this.#period(change, `the role "${role.name}"`);
    const isSame = (row: Row) => row["role"] === role.name && (row["on"] ?? null) === on && !this.#isOver(row);
    const others = [...this.#assignmentsOf(change.person)].filter(isSame);
    if (others.some((row) => this.#overlaps(row, from, until))) {
      refuse("already-given", { person: change.person, role: holdingOf(role.name, on) });
    }
    const given: Assignment = {
      id: this.#newId(),
      person: key,
      role: role.name,
      on,
      from,
      until,
      givenBy,
      reason: change.reason ?? null,
    };
    return { table: this.#kept.assignments, before: undefined, after: { ...given } };
  }

  /** The assignments of a role that are not over, for a change of which the giver has the right. */
  #assigned(change: Extract<RoleChange, { kind: "revoke" | "limit" }>): Row[] {
    const { person } = change;
    const mine = [...this.#assignmentsOf(person)].filter((row) => !this.#isOver(row));
    const declared = this.#schema.roles.get(change.role);
    // A role that the document does not have any more can still be taken away, by whoever may give any role.
    const { role, on } = declared === undefined ? this.#lostRole(change, mine) : this.#roleOf(change);
    if (role !== undefined) this.#mustGive(role, on, undefined);
    const rows = mine.filter((row) => row["role"] === change.role && (row["on"] ?? null) === on);
    if (rows.length > 0) return rows;
    const { now } = this.#giver;
    const given = membershipsOf(this.#portier, this.#source, person, { now })?.given.roles ?? [];
    const bringing = given.filter((one) => one.role.closure.has(change.role));
    const from = bringing.map(({ role: one, source }) =>
      one.name === change.role ? `"${source}"` : `the role "${one.name}" in "${source}"`,
    );
    return refuse("not-given", { person, role: holdingOf(change.role, on), from });
  }

  #lostRole(change: Extract<RoleChange, { kind: "revoke" | "limit" }>, rows: readonly Row[]) {
    const { roles } = this.#schema;
    if (!rows.some((row) => row["role"] === change.role)) {
      refuse("unknown-role", { name: change.role, candidates: roles.keys() });
    }
    const givesAny = [...roles.values()].some((role) => mayGive(this.#own, role, null));
    if (!givesAny) refuse("may-not-give", { role: change.role, givers: [], with: undefined });
    return { role: undefined, on: change.on ?? null };
  }

  #limit(change: Extract<RoleChange, { kind: "limit" }>): StoredWrite[] {
    const until = momentOf(this.#schema, "until", change.until);
    if (until !== null && until <= this.#giver.now) refuse("never-runs", { what: `the role "${change.role}"` });
    return this.#assigned(change).map((row) => ({
      table: this.#kept.assignments,
      before: row,
      after: { ...row, until },
    }));
  }

  #delegate(change: Extract<RoleChange, { kind: "delegate" }>): StoredWrite {
    const { person, actedBy } = this.#giver;
    if (actedBy !== undefined) refuse("not-while-acting", { what: "let somebody act" });
    const of = change.of ?? person;
    const [ofKey, toKey] = [this.#personKey(of), this.#personKey(change.to)];
    if (of === change.to) refuse("never-runs", { what: "acting for oneself" });
    const without = change.without ?? [];
    for (const name of without) {
      if (!this.#schema.roles.has(name)) refuse("unknown-role", { name, candidates: this.#schema.roles.keys() });
    }
    if (of !== person) this.#mustGiveAllOf(of, without);
    const { from, until } = this.#period(change, "the delegation");
    const made: Delegation = {
      id: this.#newId(),
      of: ofKey,
      to: toKey,
      from,
      until,
      without,
      givenBy: person,
      reason: change.reason ?? null,
    };
    return { table: this.#kept.delegations, before: undefined, after: { ...made } };
  }

  /** Somebody else lets a person be acted for only who could give all that they hold: or they would widen their rights. */
  #mustGiveAllOf(of: string, without: readonly string[]): void {
    const { now } = this.#giver;
    for (const moment of turningPoints(this.#schema, this.#source, of, now)) {
      for (const { role, on } of this.#rolesAt(this.#source, of, moment)) {
        if ([...role.closure].some((held) => without.includes(held))) continue;
        if (!mayGive(this.#own, role, on)) refuse("not-theirs-to-delegate", { of });
      }
    }
  }

  #end(change: Extract<RoleChange, { kind: "end" }>): StoredWrite[] {
    const { person, actedBy, now } = this.#giver;
    const of = change.of ?? person;
    const rows = [...(this.#source.referring?.(this.#kept.delegations.name, "of", of) ?? [])]
      .filter((row) => String(delegationOf(row).to) === change.to && String(delegationOf(row).of) === of)
      .filter((row) => !this.#isOver(row));
    const isParty = [of, change.to].includes(person) || actedBy === change.to;
    if (!isParty) this.#mustGiveAllOf(of, []);
    if (rows.length === 0) refuse("no-delegation", { of, to: change.to });
    return rows.map((row) => {
      const from = instantIn(row, "from");
      const hasBegun = from === null || from <= now;
      return { table: this.#kept.delegations, before: row, after: hasBegun ? { ...row, until: now } : undefined };
    });
  }

  /** A person's own record is changed as any record is, by the rules of its table. */
  #changePerson({ person, values }: Extract<RoleChange, { kind: "person" }>): StoredWrite {
    const { table } = this.#people;
    const before = this.#source.find(table.name, person);
    const outcome = this.#session().accept("edit", table.name, before, values);
    if (!outcome.accepted || before === undefined) {
      const fields = outcome.accepted
        ? []
        : outcome.refusals.flatMap(({ field }) => (field === undefined ? [] : [field]));
      return refuse("change-refused", { what: `the change of ${person}`, fields });
    }
    return { table, before, after: { ...before, ...outcome.changes } };
  }

  #session(): Session {
    const { person, actedBy, claims, now, request } = this.#giver;
    return this.#portier.session({
      person,
      source: this.#source,
      request: { ...request, now },
      ...(actedBy === undefined ? {} : { actedBy }),
      ...(claims === undefined ? {} : { claims }),
    });
  }

  // What is named in a change

  #roleOf({ role: name, on }: { readonly role: string; readonly on?: string | undefined }): {
    role: Role;
    on: string | null;
  } {
    const { roles } = this.#schema;
    const role = roles.get(name) ?? refuse("unknown-role", { name, candidates: roles.keys() });
    if (role.scope === undefined) {
      if (on !== undefined) refuse("no-record-needed", { role: name });
      return { role, on: null };
    }
    if (on === undefined) return refuse("record-needed", { role: name, scope: role.scope });
    this.#mustKnow(role.scope, on);
    return { role, on };
  }

  /** A record that is hidden from the giver is as one that is not there. */
  #mustKnow(table: string, key: string): void {
    const row = this.#source.find(table, key);
    // Whoever makes the first one sees nothing yet.
    const isListed =
      row !== undefined && (this.#giver.person === "" || this.#session().mask(table, row, "list") !== undefined);
    if (!isListed) refuse("no-such-record", { table, name: key });
  }

  #personKey(person: string): string | number {
    const { table, key } = this.#people;
    const row = this.#source.find(table.name, person);
    const [value] = splitAddress([key.type], person) ?? [];
    if (row !== undefined && (typeof value === "string" || typeof value === "number")) return value;
    // Nobody's key is hinted at: to find the nearest, everybody would have to be read.
    return refuse("unknown-person", { name: person, candidates: [] });
  }

  #period(
    { from: begins, until: ends }: { readonly from?: string | undefined; readonly until?: string | undefined },
    what: string,
  ): { from: string | null; until: string | null } {
    const [from, until] = [momentOf(this.#schema, "from", begins), momentOf(this.#schema, "until", ends)];
    const begun = from === null || from < this.#giver.now ? this.#giver.now : from;
    if (until !== null && until <= begun) refuse("never-runs", { what });
    return { from, until };
  }

  #assignmentsOf(person: string): Iterable<Row> {
    const rows = [...(this.#source.referring?.(this.#kept.assignments.name, "person", person) ?? [])];
    return rows.filter((row) => String(assignmentOf(row).person) === person);
  }

  #isOver(row: Row): boolean {
    const until = instantIn(row, "until");
    return until !== null && until <= this.#giver.now;
  }

  #overlaps(row: Row, from: string | null, until: string | null): boolean {
    const [begins, ends] = [instantIn(row, "from"), instantIn(row, "until")];
    const endsBefore = ends !== null && from !== null && ends <= from;
    const beginsAfter = begins !== null && until !== null && until <= begins;
    return !endsBefore && !beginsAfter;
  }

  /** When what somebody holds may change, by the state before or after. */
  #momentsOf(person: string, after: Source): string[] {
    const { now } = this.#giver;
    const moments = [this.#source, after].flatMap((source) => turningPoints(this.#schema, source, person, now));
    return [...new Set(moments)].sort();
  }

  // What must hold

  #mustGive(role: Role, on: string | null, comesWith: string | undefined): void {
    if (mayGive(this.#own, role, on)) return;
    refuse("may-not-give", { role: role.name, givers: giverNames(role), with: comesWith });
  }

  /** The roles that a person holds at a moment, each with the record that it is held on. */
  #rolesAt(source: Source, person: string, moment: string): { role: Role; on: string | null; holding: Holding }[] {
    const memberships = membershipsOf(this.#portier, source, person, { now: moment });
    return [...this.#schema.roles.values()].flatMap((role) => {
      const records = role.scope === undefined ? [null] : [...(memberships?.heldOn(role.name) ?? [])];
      const held = records.filter((on) => on !== null || memberships?.of(role.name) === True);
      return held.map((on) => ({ role, on, holding: holdingOf(role.name, on) }));
    });
  }

  /** Nobody is given a role by a detour: what comes along must be the giver's to give, where a role says whose it is. */
  #checkGained(person: string, after: Source, given: string | undefined): void {
    for (const moment of this.#momentsOf(person, after)) {
      const had = new Set(this.#rolesAt(this.#source, person, moment).map(({ holding }) => holding));
      for (const { role, on, holding } of this.#rolesAt(after, person, moment)) {
        if (had.has(holding) || role.givenBy.length === 0) continue;
        this.#mustGive(
          role,
          on,
          role.name === given ? undefined : given === undefined ? `the change of ${person}` : `"${given}"`,
        );
      }
    }
  }

  /** No two roles that exclude each other, now or later; those that somebody is acted in for count as their own. */
  #checkExclusive(person: string, after: Source): void {
    const { now } = this.#giver;
    const { delegations } = this.#kept;
    const excluding = [...this.#schema.roles.values()].filter(({ exclusive }) => exclusive.size > 0);
    if (excluding.length === 0) return;
    const running = (field: "of" | "to", moment: string) =>
      [...(after.referring?.(delegations.name, field, person) ?? [])].map(delegationOf).filter((one) => {
        const until = instantIn({ ...one }, "until");
        return String(one[field]) === person && (until === null || until > moment);
      });
    // The roles of those who act for each other begin and end at times of their own.
    const together = [...running("to", now).map(({ of }) => of), ...running("of", now).map(({ to }) => to)];
    const moments = [person, ...together.map(String)].flatMap((one) => turningPoints(this.#schema, after, one, now));
    for (const moment of [...new Set(moments)].sort()) {
      const holder = (key: string | number) => membershipsOf(this.#portier, after, String(key), { now: moment });
      const own = holder(person);
      const isHeld = (name: string) => own?.storedHolds(name) === True;
      const actsFor = running("to", moment).map(({ of, without }) => ({ of: holder(of), without: without ?? [] }));
      const actedBy = running("of", moment).map(({ to, without }) => ({ to: holder(to), without: without ?? [] }));
      const isHeldBeside = (name: string, beside: string) =>
        isHeld(name) ||
        actsFor.some(({ of, without }) => !without.includes(name) && of?.storedHolds(name) === True) ||
        actedBy.some(({ to, without }) => !without.includes(beside) && to?.storedHolds(name) === True);
      for (const { name, exclusive } of excluding) {
        const other = isHeld(name) ? [...exclusive].find((one) => isHeldBeside(one, name)) : undefined;
        if (other === undefined) continue;
        refuse("excluded-role", { person, roles: [name, other], at: moment === now ? undefined : moment });
      }
    }
  }

  /** The last holders of a role that must have some stay. */
  #checkLast(person: string, after: Source): void {
    const needed = [...this.#schema.roles.values()].filter(({ atLeast }) => atLeast > 0);
    if (needed.length === 0) return;
    for (const moment of this.#momentsOf(person, after)) {
      const left = new Set(this.#rolesAt(after, person, moment).map(({ holding }) => holding));
      for (const { role, on, holding } of this.#rolesAt(this.#source, person, moment)) {
        if (left.has(holding) || role.atLeast === 0) continue;
        this.#mustRemain(person, role, on, after, moment);
      }
    }
  }

  /**
   * Those who are left must be enough from that moment on: also when what they were given ends, or what excludes it
   * begins. Where the person would not hold it any more anyway, nothing is lost by the change.
   */
  #mustRemain(person: string, role: Role, on: string | null, after: Source, moment: string): void {
    const { now } = this.#giver;
    const enough = role.atLeast;
    const isHeld = (at: string) =>
      this.#rolesAt(this.#source, person, at).some((one) => one.role === role && one.on === on);
    let at: string | undefined = moment;
    while (at !== undefined) {
      const left = otherHolders(this.#portier, after, { role, on }, at, { but: person, enough });
      if (left.length < enough && isHeld(at)) {
        const facts = { role: holdingOf(role.name, on), needed: enough, left: left.length };
        refuse("last-holders", { ...facts, at: at === now ? undefined : at });
      }
      at = this.#nextMoment([...left, person], at, after);
    }
  }

  /** When what some persons hold may change next after a moment. */
  #nextMoment(persons: readonly string[], moment: string, after: Source): string | undefined {
    const moments = persons.flatMap((person) => this.#momentsOf(person, after));
    return moments.filter((one) => one > moment).sort()[0];
  }

  /** Whoever acts for another comes by all that they hold: not by a role that excludes one of their own. */
  #checkDelegated(of: string, to: string, after: Source): void {
    this.#checkExclusive(to, after);
    this.#checkExclusive(of, after);
    if (membershipsOf(this.#portier, after, to, { now: this.#giver.now }) === undefined)
      refuse("not-active", { person: to });
  }
}

function giverNames(role: Role): string[] {
  return role.givenBy.map(({ name, ofThis }) => (ofThis ? `${name} of this` : name));
}
