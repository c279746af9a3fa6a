import type { Source } from "../../conditions/source.js";
import { False } from "../../conditions/truth.js";
import type { Role } from "../../schema/schema.js";
import type { Memberships } from "../memberships.js";
import type { StoredWrite } from "../overlay.js";
import { type Delegation, delegationOf, instantIn } from "./assignment.js";
import type { AssignmentContext, Held } from "./assignment-context.js";
import { rolesReachOthers } from "./bearing.js";
import { holdingOf, linksOf, otherHolders } from "./holdings.js";
import { refuse } from "./refusal.js";

/** What must hold after a change, now and whenever something that was given begins or ends. */
export class StateChecks {
  readonly #context: AssignmentContext;
  readonly #after: Source;

  constructor(context: AssignmentContext, after: Source) {
    this.#context = context;
    this.#after = after;
  }

  /** What must hold whoever changes it: nobody holds what excludes each other, and the last holders stay. */
  state(writes: readonly StoredWrite[]): void {
    for (const person of this.touched(writes)) {
      this.#checkExclusive(person);
      this.#checkLast(person);
    }
  }

  /**
   * Nobody is assigned a role by a detour: what comes along must be the assigner's to give, where a role says whose it is.
   */
  gained(writes: readonly StoredWrite[], given?: string): void {
    const { source } = this.#context;
    for (const person of this.touched(writes)) {
      const comesWith = given === undefined ? `the change of ${person}` : `"${given}"`;
      for (const instant of this.#context.instantsOf(person, this.#after)) {
        const had = new Set(this.#context.rolesAt(source, person, instant).map(({ holding }) => holding));
        for (const { role, on, holding } of this.#context.rolesAt(this.#after, person, instant)) {
          if (had.has(holding) || role.assignableBy.length === 0) continue;
          this.#context.mustAssign(role, on, role.name === given ? undefined : comesWith);
        }
      }
    }
  }

  /**
   * What a change of records that bear roles comes to: every role that anybody gains or loses must be the assigner's, and
   * nobody comes by one themselves, unless they have confirmed (`isConfirmed`) that it is what they want.
   */
  changed(writes: readonly StoredWrite[], isConfirmed = false): void {
    const { source, assigner } = this.#context;
    for (const person of this.touched(writes)) {
      for (const instant of this.#context.instantsOf(person, this.#after)) {
        const had = this.#context.rolesAt(source, person, instant);
        const has = this.#context.rolesAt(this.#after, person, instant);
        const among = (all: readonly Held[], { holding }: Held) => all.some((one) => one.holding === holding);
        const gained = has.filter((one) => !among(had, one));
        const lost = had.filter((one) => !among(has, one));
        if (gained.length > 0 && person === assigner.actedBy)
          refuse("not-while-acting", { what: "assign anything to yourself" });
        if (gained.length > 0 && person === assigner.person && !isConfirmed) refuse("assigns-oneself", {});
        for (const { role, on } of [...gained, ...lost]) {
          if (role.assignableBy.length > 0) this.#context.mustAssign(role, on);
        }
      }
    }
  }

  /** The persons whose roles some writes may change, and those who come to act for each other. */
  touched(writes: readonly StoredWrite[]): Set<string> {
    const { schema, source, people } = this.#context;
    const { kept } = schema;
    const touched = new Set<string>();
    const add = (value: unknown) => {
      if (value !== undefined && value !== null) touched.add(String(value));
    };
    for (const { table, before, after } of writes) {
      const fields = [
        ...(table === kept?.delegations ? ["of", "to"] : []),
        ...linksOf(schema).flatMap((link) => (link.table === table ? [link.person.name] : [])),
        ...(table === people.table ? [people.key.name] : []),
      ];
      for (const field of fields) for (const row of [before, after]) add(row?.[field]);
      // Who is below whom, or what a group asks of others' records, can change what anybody holds.
      const reachesOthers = table === people.table && rolesReachOthers(this.#context.opener.ruleset);
      if (reachesOthers) for (const row of source.all?.(table.name) ?? []) add(row[people.key.name]);
    }
    return touched;
  }

  /** What somebody would come to hold that excludes each other, and did not before. */
  #checkExclusive(person: string): void {
    const { schema, assigner, source } = this.#context;
    if ([...schema.roles.values()].every(({ exclusive }) => exclusive.size === 0)) return;
    for (const instant of this.#momentsTogether(person)) {
      const known = this.#conflicts(source, person, instant).map((one) => one.join(" "));
      const fresh = this.#conflicts(this.#after, person, instant).find((one) => !known.includes(one.join(" ")));
      if (fresh === undefined) continue;
      refuse("excluded-role", { person, roles: fresh, at: instant === assigner.now ? undefined : instant });
    }
  }

  /** When a person's roles may change, those of whoever they act for or who act for them, and their acting itself. */
  #momentsTogether(person: string): string[] {
    const { assigner } = this.#context;
    const delegations = [
      ...this.#delegations(this.#after, "of", person),
      ...this.#delegations(this.#after, "to", person),
    ];
    const persons = new Set([person, ...delegations.flatMap(({ of, to }) => [String(of), String(to)])]);
    const begins = delegations.flatMap((one) => instantIn({ ...one }, "from") ?? []);
    const instants = [...persons].flatMap((one) => this.#context.instantsOf(one, this.#after));
    return [...new Set([...instants, ...begins.filter((begin) => begin > assigner.now)])].sort();
  }

  /** Pairs of roles that exclude each other and are both held, or acted in by one who holds the other. */
  #conflicts(source: Source, person: string, instant: string): (readonly [string, string])[] {
    const roles = [...this.#context.schema.roles.values()].filter(({ exclusive }) => exclusive.size > 0);
    const own = this.#context.memberships(source, person, instant);
    const holder = (key: string | number) => this.#context.memberships(source, String(key), instant);
    const isRunning = (one: Delegation) => {
      const [from, until] = [instantIn({ ...one }, "from"), instantIn({ ...one }, "until")];
      return (from === null || from <= instant) && (until === null || instant < until);
    };
    const running = (field: "of" | "to", other: "of" | "to") =>
      this.#delegations(source, field, person)
        .filter(isRunning)
        .map((one) => ({ other: holder(one[other]), without: one.without ?? [] }));
    const [actsFor, actedBy] = [running("to", "of"), running("of", "to")];
    // Where it cannot be excluded that a role is held, it is taken for held.
    const isHeld = (memberships: Memberships | undefined, name: string) =>
      memberships !== undefined && memberships.storedHolds(name) !== False;
    return roles.flatMap(({ name, exclusive }) =>
      [...exclusive]
        .filter(
          (excluded) =>
            isHeld(own, name) &&
            (isHeld(own, excluded) ||
              actsFor.some(({ other, without }) => !without.includes(excluded) && isHeld(other, excluded)) ||
              actedBy.some(({ other, without }) => !without.includes(name) && isHeld(other, excluded))),
        )
        .map((excluded) => [name, excluded] as const),
    );
  }

  #delegations(source: Source, field: "of" | "to", person: string): Delegation[] {
    const { kept } = this.#context.schema;
    const rows = (kept && source.referring?.(kept.delegations.name, field, person)) ?? [];
    return [...rows].map(delegationOf).filter((one) => String(one[field]) === person);
  }

  /** The last holders of a role that must have some stay. */
  #checkLast(person: string): void {
    const { schema, source } = this.#context;
    if ([...schema.roles.values()].every(({ minHolders }) => minHolders === 0)) return;
    for (const instant of this.#context.instantsOf(person, this.#after)) {
      const left = new Set(this.#context.rolesAt(this.#after, person, instant).map(({ holding }) => holding));
      for (const { role, on, holding } of this.#context.rolesAt(source, person, instant)) {
        if (!left.has(holding) && role.minHolders > 0) this.#mustRemain(person, role, on, instant);
      }
    }
  }

  /**
   * Those who are left must be enough from then on: also when what they were given ends, or what excludes it
   * begins. Where the person would not hold it any more anyway, nothing is lost by the change.
   */
  #mustRemain(person: string, role: Role, on: string | null, instant: string): void {
    const { opener, assigner, source } = this.#context;
    const enough = role.minHolders;
    const isHeld = (at: string) =>
      this.#context.rolesAt(source, person, at).some((one) => one.role === role && one.on === on);
    let at: string | undefined = instant;
    while (at !== undefined) {
      const left = otherHolders(opener, this.#after, { role, on }, at, { but: person, enough });
      if (left.length < enough && isHeld(at)) {
        const facts = { role: holdingOf(role.name, on), needed: enough, left: left.length };
        refuse("last-holders", { ...facts, at: at === assigner.now ? undefined : at });
      }
      at = this.#nextMoment([...left, person], at);
    }
  }

  /** When what some persons hold may change next after an instant. */
  #nextMoment(persons: readonly string[], instant: string): string | undefined {
    const instants = persons.flatMap((person) => this.#context.instantsOf(person, this.#after));
    return instants.filter((one) => one > instant).sort()[0];
  }
}
