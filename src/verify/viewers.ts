import type { Row, Source } from "../conditions/source.js";
import { singleKey } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import { firstOnConsole } from "../session/reading.js";
import type { Session } from "../session/session.js";
import type { SessionOptions } from "../session/session-options.js";

/** Somebody whose view is looked at: a person, the holders of a role, or an anonymous visitor. */
export interface Viewer {
  readonly kind: "person" | "role" | "group" | "visitor";
  /** The person's key, the name of a role or group, or `visitor`. */
  readonly id: string;
  /** What to call them on screens. */
  readonly name: string;
  /** Every role that they hold, also through others and groups. */
  readonly roles: readonly string[];
  /** What answers for them. */
  readonly session: Session;
}

/** The anonymous visitor, then every role in declared order. */
export function roleViewers(portier: Portier, options: SessionOptions = {}): Viewer[] {
  const roles = [...portier.schema.roles.keys()].map((role): Viewer => {
    const session = portier.sessionForRoles([role], options);
    return { kind: "role", id: role, name: role, roles: session.roles, session };
  });
  return [visitorViewer(portier, options), ...roles];
}

/** The anonymous visitor, then every group in declared order: whoever is in it, and of whom nothing else is known. */
export function groupViewers(portier: Portier, options: SessionOptions = {}): Viewer[] {
  const groups = [...internals(portier).ruleset.groups.keys()].map((group): Viewer => {
    const session = portier.sessionForRoles([group], options);
    return { kind: "group", id: group, name: group, roles: session.roles, session };
  });
  return [visitorViewer(portier, options), ...groups];
}

/** A visitor who is not signed in. */
export function visitorViewer(portier: Portier, options: SessionOptions = {}): Viewer {
  const session = portier.session({ ...options, person: null });
  return { kind: "visitor", id: "visitor", name: "anyone not signed in", roles: [], session };
}

/** The anonymous visitor, then every person of the data, in its order. */
export function personViewers(
  portier: Portier,
  people: readonly Row[],
  options: SessionOptions & { readonly source: Source },
): Viewer[] {
  const told = { ...options, onDiagnostic: options.onDiagnostic ?? firstOnConsole() };
  return [
    visitorViewer(portier, told),
    ...people.map((row): Viewer => personViewer(portier, row, { ...told, person: row })),
  ];
}

/** One person, given as their record. */
export function personViewer(portier: Portier, person: Row, options: SessionOptions): Viewer {
  const people = portier.schema.people;
  const key = people && singleKey(people.table);
  const id = key === undefined ? "" : String(person[key.name]);
  const name = people?.name === undefined ? id : String(person[people.name.name] ?? id);
  const session = portier.session({ ...options, person });
  return { kind: "person", id, name, roles: session.roles, session };
}
