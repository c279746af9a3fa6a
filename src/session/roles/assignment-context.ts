import type { Row, Source } from "../../conditions/source.js";
import { True } from "../../conditions/truth.js";
import { type Field, type KeptTables, type Role, type Schema, singleKey, type Table } from "../../schema/schema.js";
import { internals } from "../internals.js";
import type { Memberships } from "../memberships.js";
import { OpenSession } from "../open-session.js";
import { toNobody } from "../reading.js";
import { isKnownTo } from "../seen.js";
import type { Opener } from "../session-parts.js";
import type { Assigner } from "./assigner.js";
import { type Holding, holdingOf, mayAssign, membershipsOf, turningPoints } from "./holdings.js";
import { refuse } from "./refusal.js";

/** A role that somebody holds, with the record that a scoped one is held on. */
export interface Held {
  readonly role: Role;
  readonly on: string | null;
  readonly holding: Holding;
}

/** Who gives, and the state in which they do: what judging a change asks again and again. */
export class AssignmentContext {
  readonly opener: Opener;
  readonly source: Source;
  readonly assigner: Assigner;
  readonly newId: () => string;
  #session: OpenSession | undefined;

  readonly #held: Memberships | undefined;
  readonly #memberships = new WeakMap<Source, Map<string, Memberships | undefined>>();

  /** `held`: what the assigner holds, where a session of theirs is open already. */
  constructor(opener: Opener, source: Source, assigner: Assigner, newId: () => string, held?: Memberships) {
    this.#held = held;
    this.opener = opener;
    this.source = source;
    this.assigner = assigner;
    this.newId = newId;
  }

  get schema(): Schema {
    return this.opener.schema;
  }

  get kept(): KeptTables {
    return this.schema.kept ?? refuse("assignments-not-enabled", {});
  }

  get people(): { readonly table: Table; readonly key: Field } {
    const table = this.schema.people?.table;
    const key = table && singleKey(table);
    return table === undefined || key === undefined ? refuse("assignments-not-enabled", {}) : { table, key };
  }

  /** The assigner's session. */
  get session(): OpenSession {
    const { person, actedBy, claims, now, request } = this.assigner;
    const options = {
      person,
      source: this.source,
      request: { ...request, now },
      onDiagnostic: toNobody,
      ...(actedBy === undefined ? {} : { actedBy }),
      ...(claims === undefined ? {} : { claims }),
    };
    this.#session ??= new OpenSession(this.opener.open(options));
    return this.#session;
  }

  /** What the assigner holds. Refused for one who is not there or not active. */
  held(): Memberships {
    const { person, actedBy } = this.assigner;
    const memberships = this.#held ?? internals(this.session).subject.memberships;
    return memberships ?? refuse("not-active", { person: actedBy ?? person });
  }

  /** Whether the assigner knows of a record. Whoever makes the first holder of a role is nobody, and sees nothing yet. */
  knows(table: string, row: Row): boolean {
    if (this.assigner.person === "") return true;
    return isKnownTo(this.session, table, row);
  }

  mustAssign(role: Role, on: string | null, comesWith?: string): void {
    if (mayAssign(this.held(), role, on)) return;
    refuse("may-not-assign", { role: role.name, assigners: assignerNames(role), with: comesWith });
  }

  /** What a person holds by one state; the states that are asked do not change while a change is judged. */
  memberships(source: Source, person: string, instant: string): Memberships | undefined {
    const known = this.#memberships.get(source) ?? new Map<string, Memberships | undefined>();
    this.#memberships.set(source, known);
    const asked = JSON.stringify([person, instant]);
    if (!known.has(asked)) known.set(asked, membershipsOf(this.opener, source, person, { now: instant }));
    return known.get(asked);
  }

  /** The roles that a person holds at an instant. */
  rolesAt(source: Source, person: string, instant: string): Held[] {
    const memberships = this.memberships(source, person, instant);
    return [...this.schema.roles.values()].flatMap((role) => {
      const records = role.scope === undefined ? [null] : [...(memberships?.heldOn(role.name) ?? [])];
      const held = records.filter((on) => on !== null || memberships?.of(role.name) === True);
      return held.map((on) => ({ role, on, holding: holdingOf(role.name, on) }));
    });
  }

  /** When what somebody holds may change, by the state before or after, from now on. */
  instantsOf(person: string, after: Source): string[] {
    const { now } = this.assigner;
    const instants = [this.source, after].flatMap((source) => turningPoints(this.schema, source, person, now));
    return [...new Set(instants)].sort();
  }
}

export function assignerNames(role: Role): string[] {
  return role.assignableBy.map(({ name, ofThis }) => (ofThis ? `${name} of this` : name));
}
