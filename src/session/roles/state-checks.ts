import type { Source } from "../../conditions/source.js";
import { False } from "../../conditions/truth.js";
import type { Role } from "../../schema/schema.js";
import type { Memberships } from "../memberships.js";
import type { StoredWrite } from "../overlay.js";
import { type Delegation, delegationOf, instantIn } from "./assignment.js";
import { rolesReachOthers } from "./bearing.js";
import type { Giving, Held } from "./giving.js";
import { holdingOf, linksOf, otherHolders } from "./holdings.js";
import { refuse } from "./refusal.js";

/** What must hold after a change, now and whenever something that was given begins or ends. */
export class StateChecks {
  readonly #giving: Giving;
  readonly #after: Source;

  constructor(giving: Giving, after: Source) {
    this.#giving = giving;
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
   * Nobody is given a role by a detour: what comes along must be the giver's to give, where a role says whose it is.
   */
  gained(writes: readonly StoredWrite[], given?: string): void {
    const { source } = this.#giving;
    for (const person of this.touched(writes)) {
      const comesWith = given === undefined ? `the change of ${person}` : `"${given}"`;
      for (const moment of this.#giving.momentsOf(person, this.#after)) {
        const had = new Set(this.#giving.rolesAt(source, person, moment).map(({ holding }) => holding));
        for (const { role, on, holding } of this.#giving.rolesAt(this.#after, person, moment)) {
          if (had.has(holding) || role.givenBy.length === 0) continue;
          this.#giving.mustGive(role, on, role.name === given ? undefined : comesWith);
        }
      }
    }
  }

  /**
   * What a change of records that bear roles comes to: every role that anybody gains or loses must be the giver's, and
   * nobody comes by one themselves, unless they have confirmed (`isConfirmed`) that it is what they want.
   */
  changed(writes: readonly StoredWrite[], isConfirmed = false): void {
    const { source, giver } = this.#giving;
    for (const person of this.touched(writes)) {
      for (const moment of this.#giving.momentsOf(person, this.#after)) {
        const had = this.#giving.rolesAt(source, person, moment);
        const has = this.#giving.rolesAt(this.#after, person, moment);
        const among = (all: readonly Held[], { holding }: Held) => all.some((one) => one.holding === holding);
        const gained = has.filter((one) => !among(had, one));
        const lost = had.filter((one) => !among(has, one));
        if (gained.length > 0 && person === giver.actedBy)
          refuse("not-while-acting", { what: "give themselves anything" });
        if (gained.length > 0 && person === giver.person && !isConfirmed) refuse("gives-oneself", {});
        for (const { role, on } of [...gained, ...lost]) {
          if (role.givenBy.length > 0) this.#giving.mustGive(role, on);
        }
      }
    }
  }

  /** The persons whose roles some writes may change, and those who come to act for each other. */
  touched(writes: readonly StoredWrite[]): Set<string> {
    const { schema, source, people } = this.#giving;
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
      const reachesOthers = table === people.table && rolesReachOthers(this.#giving.opener.ruleset);
      if (reachesOthers) for (const row of source.all?.(table.name) ?? []) add(row[people.key.name]);
    }
    return touched;
  }

  /** What somebody would come to hold that excludes each other, and did not before. */
  #checkExclusive(person: string): void {
    const { schema, giver, source } = this.#giving;
    if ([...schema.roles.values()].every(({ exclusive }) => exclusive.size === 0)) return;
    for (const moment of this.#momentsTogether(person)) {
      const known = this.#conflicts(source, person, moment).map((one) => one.join(" "));
      const fresh = this.#conflicts(this.#after, person, moment).find((one) => !known.includes(one.join(" ")));
      if (fresh === undefined) continue;
      refuse("excluded-role", { person, roles: fresh, at: moment === giver.now ? undefined : moment });
    }
  }

  /** When a person's roles may change, those of whoever they act for or who act for them, and their acting itself. */
  #momentsTogether(person: string): string[] {
    const { giver } = this.#giving;
    const delegations = [
      ...this.#delegations(this.#after, "of", person),
      ...this.#delegations(this.#after, "to", person),
    ];
    const persons = new Set([person, ...delegations.flatMap(({ of, to }) => [String(of), String(to)])]);
    const begins = delegations.flatMap((one) => instantIn({ ...one }, "from") ?? []);
    const moments = [...persons].flatMap((one) => this.#giving.momentsOf(one, this.#after));
    return [...new Set([...moments, ...begins.filter((begin) => begin > giver.now)])].sort();
  }

  /** Pairs of roles that exclude each other and are both held, or acted in by one who holds the other. */
  #conflicts(source: Source, person: string, moment: string): (readonly [string, string])[] {
    const roles = [...this.#giving.schema.roles.values()].filter(({ exclusive }) => exclusive.size > 0);
    const own = this.#giving.memberships(source, person, moment);
    const holder = (key: string | number) => this.#giving.memberships(source, String(key), moment);
    const isRunning = (one: Delegation) => {
      const [from, until] = [instantIn({ ...one }, "from"), instantIn({ ...one }, "until")];
      return (from === null || from <= moment) && (until === null || moment < until);
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
    const { kept } = this.#giving.schema;
    const rows = (kept && source.referring?.(kept.delegations.name, field, person)) ?? [];
    return [...rows].map(delegationOf).filter((one) => String(one[field]) === person);
  }

  /** The last holders of a role that must have some stay. */
  #checkLast(person: string): void {
    const { schema, source } = this.#giving;
    if ([...schema.roles.values()].every(({ atLeast }) => atLeast === 0)) return;
    for (const moment of this.#giving.momentsOf(person, this.#after)) {
      const left = new Set(this.#giving.rolesAt(this.#after, person, moment).map(({ holding }) => holding));
      for (const { role, on, holding } of this.#giving.rolesAt(source, person, moment)) {
        if (!left.has(holding) && role.atLeast > 0) this.#mustRemain(person, role, on, moment);
      }
    }
  }

  /**
   * Those who are left must be enough from that moment on: also when what they were given ends, or what excludes it
   * begins. Where the person would not hold it any more anyway, nothing is lost by the change.
   */
  #mustRemain(person: string, role: Role, on: string | null, moment: string): void {
    const { opener, giver, source } = this.#giving;
    const enough = role.atLeast;
    const isHeld = (at: string) =>
      this.#giving.rolesAt(source, person, at).some((one) => one.role === role && one.on === on);
    let at: string | undefined = moment;
    while (at !== undefined) {
      const left = otherHolders(opener, this.#after, { role, on }, at, { but: person, enough });
      if (left.length < enough && isHeld(at)) {
        const facts = { role: holdingOf(role.name, on), needed: enough, left: left.length };
        refuse("last-holders", { ...facts, at: at === giver.now ? undefined : at });
      }
      at = this.#nextMoment([...left, person], at);
    }
  }

  /** When what some persons hold may change next after a moment. */
  #nextMoment(persons: readonly string[], moment: string): string | undefined {
    const moments = persons.flatMap((person) => this.#giving.momentsOf(person, this.#after));
    return moments.filter((one) => one > moment).sort()[0];
  }
}
