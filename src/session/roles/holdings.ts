import type { Row, Source } from "../../conditions/source.js";
import { True } from "../../conditions/truth.js";
import { PortierError } from "../../schema/problems.js";
import { type Role, type RoleSource, type Schema, singleKey } from "../../schema/schema.js";
import { storedValue } from "../../schema/types/stored-form.js";
import type { RoleClaim } from "../assigned-roles.js";
import type { Memberships } from "../memberships.js";
import { toNobody } from "../reading.js";

import type { Opener } from "../session-parts.js";

/** A role, and for a scoped one the record that it is held on: `keeper`, `editor of e-2`. */
export type Holding = string;

export function holdingOf(role: string, on: string | null | undefined): Holding {
  return on === null || on === undefined ? role : `${role} of ${on}`;
}

/** How a person is looked at: when, and with what a sign-in brings along. */
export interface LookOptions {
  /** When, as a canonical instant. */
  readonly now: string;
  readonly claims?: Iterable<RoleClaim> | undefined;
  readonly actedBy?: string | undefined;
}

/**
 * What a person is and holds by what a source says; undefined for one who is not there, not active, or whose roles cannot
 * be read (a role that the document does not have any more): they hold nothing.
 */
export function membershipsOf(
  opener: Opener,
  source: Source,
  person: string,
  { now, claims, actedBy }: LookOptions,
): Memberships | undefined {
  try {
    const { origin } = opener.open({
      person,
      source,
      request: { now },
      onDiagnostic: toNobody,
      ...(claims === undefined ? {} : { claims }),
      ...(actedBy === undefined ? {} : { actedBy }),
    });
    return origin?.subject.memberships;
  } catch (error) {
    if (error instanceof PortierError && ["unknown-role", "wrong-scope", "bad-setting"].includes(error.code))
      return undefined;
    throw error;
  }
}

export function holds(memberships: Memberships | undefined, role: string, on: string | null): boolean {
  if (memberships === undefined) return false;
  return on === null ? memberships.of(role) === True : memberships.heldOn(role)?.has(on) === true;
}

/** Whether somebody may assign a role, on a record where it is held on one. */
export function mayAssign(assigner: Memberships | undefined, role: Role, on: string | null): boolean {
  if (assigner === undefined) return false;
  return role.assignableBy.some(({ name, ofThis }) =>
    ofThis ? on !== null && assigner.heldOn(name)?.has(on) === true : assigner.of(name) === True,
  );
}

type Link = Extract<RoleSource, { kind: "link" }>;

export function linksOf({ people }: Schema): Link[] {
  return (people?.roles ?? []).filter((source): source is Link => source.kind === "link");
}

/** The instants from now on at which what somebody was given begins or ends: now, and later ones in their order. */
export function turningPoints(schema: Schema, source: Source, person: string, now: string): string[] {
  const instants = new Set<string>();
  for (const { table, person: holder, from, until } of linksOf(schema)) {
    if (from === undefined && until === undefined) continue;
    for (const row of source.referring?.(table.name, holder.name, person) ?? []) {
      for (const field of [from, until]) {
        const instant = field && storedValue(field.type, row[field.name]);
        if (instant !== undefined && String(instant) > now) instants.add(String(instant));
      }
    }
  }
  return [now, ...[...instants].sort()];
}

/**
 * Persons, but one, who hold a role at an instant: at most `enough` of them. Looks first at those whom a field, a link
 * table or an assignment names; at everybody only where a group carries the role.
 */
export function otherHolders(
  opener: Opener,
  source: Source,
  { role, on }: { readonly role: Role; readonly on: string | null },
  now: string,
  { but, enough }: { readonly but: string; readonly enough: number },
): string[] {
  const looked = new Set([but]);
  const found: string[] = [];
  const look = (person: unknown) => {
    const key = String(person);
    if (found.length >= enough || person === null || person === undefined || looked.has(key)) return;
    looked.add(key);
    if (holds(membershipsOf(opener, source, key, { now }), role.name, on)) found.push(key);
  };
  for (const person of namedHolders(opener.schema, source, role.name)) look(person);
  const people = opener.schema.people;
  const key = people && singleKey(people.table);
  if (found.length < enough && key !== undefined && opener.ruleset.carriers.has(role.name)) {
    for (const row of source.all?.(people?.table.name ?? "") ?? []) look(row[key.name]);
  }
  return found;
}

/** The keys of those whom a field, link table or assignment assigns a role that brings this one. */
function* namedHolders(schema: Schema, source: Source, name: string): Iterable<unknown> {
  const bringing = [...schema.roles.values()].filter(({ closure }) => closure.has(name));
  const { people } = schema;
  const key = people && singleKey(people.table);
  if (people === undefined || key === undefined) return;
  for (const given of people.roles) {
    for (const role of bringing) {
      if (given.kind === "field") {
        const rows: Iterable<Row> = source.referring?.(people.table.name, given.field.name, role.name) ?? [];
        for (const row of rows) yield row[key.name];
      } else {
        for (const row of source.referring?.(given.table.name, given.role.name, role.name) ?? []) {
          yield row[given.person.name];
        }
      }
    }
  }
}
