import type { Row, Source } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { type Field, type KeptTables, type Role, type Schema, singleKey, type Table } from "../schema/schema.js";
import type { Memberships } from "../session/memberships.js";
import type { Portier } from "../session/portier.js";
import type { Session } from "../session/session.js";
import type { Giver } from "./giver.js";
import { type Holding, holdingOf, mayGive, membershipsOf, turningPoints } from "./holdings.js";
import { refuse } from "./refusal.js";

/** A role that somebody holds, with the record that a scoped one is held on. */
export interface Held {
  readonly role: Role;
  readonly on: string | null;
  readonly holding: Holding;
}

/** Who gives, and the state in which they do: what judging a change asks again and again. */
export class Giving {
  readonly portier: Portier;
  readonly source: Source;
  readonly giver: Giver;
  readonly newId: () => string;
  #own: Memberships | undefined;

  constructor(portier: Portier, source: Source, giver: Giver, newId: () => string) {
    this.portier = portier;
    this.source = source;
    this.giver = giver;
    this.newId = newId;
  }

  get schema(): Schema {
    return this.portier.schema;
  }

  get kept(): KeptTables {
    return this.schema.kept ?? refuse("not-assigned", {});
  }

  get people(): { readonly table: Table; readonly key: Field } {
    const table = this.schema.people?.table;
    const key = table && singleKey(table);
    return table === undefined || key === undefined ? refuse("not-assigned", {}) : { table, key };
  }

  /** What the giver holds. Refused for one who is not there or not active. */
  get own(): Memberships {
    const { person, now, claims, actedBy } = this.giver;
    this.#own ??= membershipsOf(this.portier, this.source, person, { now, claims, actedBy });
    return this.#own ?? refuse("not-active", { person: actedBy ?? person });
  }

  /** Refuses whoever is not there or not active. */
  mustBeActive(): void {
    this.own satisfies Memberships;
  }

  /** The giver's session. */
  session(): Session {
    const { person, actedBy, claims, now, request } = this.giver;
    return this.portier.session({
      person,
      source: this.source,
      request: { ...request, now },
      ...(actedBy === undefined ? {} : { actedBy }),
      ...(claims === undefined ? {} : { claims }),
    });
  }

  /** Whether the giver knows of a record. Whoever makes the first holder of a role is nobody, and sees nothing yet. */
  knows(table: string, row: Row): boolean {
    if (this.giver.person === "") return true;
    const session = this.session();
    return session.may("list", table, row) || session.may("view", table, row);
  }

  mustGive(role: Role, on: string | null, comesWith?: string): void {
    if (mayGive(this.own, role, on)) return;
    refuse("may-not-give", { role: role.name, givers: giverNames(role), with: comesWith });
  }

  memberships(source: Source, person: string, moment: string): Memberships | undefined {
    return membershipsOf(this.portier, source, person, { now: moment });
  }

  /** The roles that a person holds at a moment. */
  rolesAt(source: Source, person: string, moment: string): Held[] {
    const memberships = this.memberships(source, person, moment);
    return [...this.schema.roles.values()].flatMap((role) => {
      const records = role.scope === undefined ? [null] : [...(memberships?.heldOn(role.name) ?? [])];
      const held = records.filter((on) => on !== null || memberships?.of(role.name) === True);
      return held.map((on) => ({ role, on, holding: holdingOf(role.name, on) }));
    });
  }

  /** When what somebody holds may change, by the state before or after, from now on. */
  momentsOf(person: string, after: Source): string[] {
    const { now } = this.giver;
    const moments = [this.source, after].flatMap((source) => turningPoints(this.schema, source, person, now));
    return [...new Set(moments)].sort();
  }
}

export function giverNames(role: Role): string[] {
  return role.givenBy.map(({ name, ofThis }) => (ofThis ? `${name} of this` : name));
}
