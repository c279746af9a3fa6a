import { always, type Expression, never, type Operand } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import { sessionOperandName } from "../conditions/session-operand.js";
import type { Row, Source } from "../conditions/source.js";
import type { Known } from "../conditions/specialize.js";
import { False, True } from "../conditions/truth.js";
import type { Rule } from "../rules/rule.js";
import type { Ruleset } from "../rules/ruleset.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import { type Schema, singleKey } from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";
import { assignedRoles, type RoleClaim } from "./assigned-roles.js";
import { findDelegation } from "./delegation.js";
import { type Membership, Memberships, readMembership } from "./memberships.js";
import { nothingSet, type PersonSettings, readSettings } from "./person-settings.js";
import { isRow, wrongRecord } from "./row.js";
import { type ConstantSources, readConstant, readRequest } from "./session-values.js";
import { addSettingValues, settingRules } from "./setting-rules.js";
import type { Subject } from "./subject.js";

/**
 * The current user, as far as rules can tell: everything that partial evaluation needs. Two subjects with the same `classKey`
 * get the same answers. Two with the same `planKey` do but for what is compared with their `values`: they share the residual
 * plan of `alike`, which leaves these open.
 */
export interface OpenedSubject extends Subject {
  /** The person's key in canonical form; null for an anonymous visitor, undefined for a made-up holder of roles. */
  readonly key: Scalar | null | undefined;
  /** The time of the session, a canonical instant. */
  readonly now: string;
  readonly classKey: () => string;
  readonly planKey: string;
  readonly values: readonly (Scalar | undefined)[];
  /** All who have the same `planKey`. Keeps nothing of the session, so that plans can be kept. */
  readonly alike: Subject;
  /** Of a person who meets anything. */
  readonly memberships: Memberships | undefined;
  /** Every role held for certain, includes and groups among them, in alphabetical order; scoped ones as `ROLE of KEY`. */
  readonly roles: () => string[];
}

export interface SubjectOptions {
  readonly person?: object | string | number | null | undefined;
  readonly request?: Readonly<Record<string, unknown>> | undefined;
  readonly source?: Source | undefined;
  readonly claims?: Iterable<RoleClaim> | undefined;
  readonly actedBy?: string | number | undefined;
}

const nobody: Membership = { read: () => False, fact: False };

/**
 * Works out the current user. Throws a PortierError for a role that does not exist, for request values that do not fit, and
 * for a person given by key without a source; a person who is not there or not active opens a subject that meets nothing.
 */
export function openSubject(
  ruleset: Ruleset,
  options: SubjectOptions,
  reading: Reading,
  onDiagnostic: (message: string) => void,
): OpenedSubject {
  const { schema } = ruleset;
  const person = findPerson(schema, { ...options, source: reading.source });
  const request = readRequest(schema, options.request ?? {});
  const now = request.get("now") as string;
  const asked = person === "absent" ? undefined : person;
  const key = asked === undefined ? null : personKey(schema, asked);
  const actor = findActor(ruleset, options, key, now, reading);
  const meets = person !== "absent" && actor !== "nobody" && (asked === undefined || isActive(schema, asked));
  const row = asked;
  const facts: unknown[] = [];

  const constants = new Map<string, () => Operand>();
  const known: Known = (operand) => {
    if (operand.slot !== undefined) return constantOf(operand, values[operand.slot]);
    const name = sessionOperandName(operand);
    let read = constants.get(name);
    if (read === undefined) {
      read = readConstant(operand, sources).read;
      constants.set(name, read);
    }
    // "me" and "me.id" are one value, of two types: the second has an order.
    return { ...read(), type: operand.type };
  };
  // Whoever signed in brings them along: somebody who acts for another does so without them.
  const claims = actor === undefined ? (options.claims ?? []) : [];
  const memberships =
    row === undefined || key === null || !meets
      ? undefined
      : openMemberships({
          ruleset,
          person: row,
          key,
          now,
          known,
          actor,
          claims,
          reading,
          onDiagnostic,
        });
  const sources: ConstantSources = { person: row, memberships, request, reading, schema };
  const { all, slots } = ruleset.sessionOperands;
  const values: (Scalar | undefined)[] = [];
  const own: unknown[] = [];
  for (const [name, operand] of all) {
    const { read, fact, value } = readConstant(operand, sources);
    constants.set(name, read);
    const slot = value === undefined ? undefined : slots.get(name);
    if (slot !== undefined) values[slot] = value;
    // What is left open is told apart by whether there is a value, whichever.
    facts.push(slot === undefined ? fact : 0);
    if (slot !== undefined) own.push(fact);
  }

  const cache = new Map<string, Membership>();
  const member = (name: string): Membership => {
    const found = cache.get(name) ?? (memberships === undefined ? nobody : readMembership(memberships, name));
    cache.set(name, found);
    return found;
  };
  for (const name of ruleset.memberships) facts.push(member(name).fact);
  for (const rule of ruleset.timed) facts.push(isInForce(rule, now));
  const set = memberships === undefined || key === null ? nothingSet : readSettings(schema, key, now, reading);
  if (set !== nothingSet) {
    facts.push(set.shape);
    own.push(set.id);
    addSettingValues(ruleset, set, values);
  }
  // Sessions are opened for every request: what is made here is made without copies and accessors.
  const signedIn = row === undefined ? never : always;
  const membership = (name: string): Expression => ({ kind: "truth", value: member(name).read() });
  const inForce = inForceAt(now);
  const alike = lastingSubject({ ruleset, meets, signedIn, inForce, values, constants, members: cache, set }, slots);
  const planKey = JSON.stringify([meets, row !== undefined, facts]);
  let classKey: string | undefined;
  return {
    meets,
    signedIn,
    membership,
    inForce,
    known,
    settings: alike.settings,
    key,
    now,
    memberships,
    planKey,
    classKey: () => {
      classKey ??= `${planKey} ${JSON.stringify(own)}`;
      return classKey;
    },
    values,
    alike,
    roles: () => heldRoles(ruleset, memberships),
  };
}

function constantOf({ type }: Operand, value: Scalar | undefined): Operand {
  return value === undefined ? { kind: "unreadable", type } : { kind: "constant", type, value };
}

const inForceAt = (now: string) => (rule: Rule) => (isInForce(rule, now) ? always : never);

/** What a plan needs that outlives the session for which it was made. */
interface Lasting extends Pick<Subject, "meets" | "signedIn" | "inForce"> {
  readonly ruleset: Ruleset;
  readonly values: readonly (Scalar | undefined)[];
  readonly constants: ReadonlyMap<string, () => Operand>;
  readonly members: ReadonlyMap<string, Membership>;
  readonly set: PersonSettings;
}

/**
 * Everybody with the same plan, whose values in `slots` are left open. Stands by itself, as closures keep all that is around
 * them: plans are kept, and the records and the source of the one for whom one was made must not be.
 */
function lastingSubject(
  { ruleset, meets, signedIn, inForce, values, constants, members, set }: Lasting,
  slots: ReadonlyMap<string, number>,
): Subject {
  // What rules name was read when the session was opened; of anything else nobody knows.
  const hasValue = values.map((value) => value !== undefined);
  const rules = new Map<string, readonly Rule[]>();
  const subject: Subject = {
    meets,
    signedIn,
    inForce,
    membership: (name) => ({ kind: "truth", value: members.get(name)?.read() ?? False }),
    known: (operand) => {
      if (operand.slot !== undefined) return operand;
      const name = sessionOperandName(operand);
      const slot = slots.get(name);
      if (slot !== undefined && hasValue[slot] === true) return { ...operand, slot };
      const read = constants.get(name);
      return read === undefined ? { kind: "unreadable", type: operand.type } : { ...read(), type: operand.type };
    },
    settings: (table) => {
      if (!set.of.has(table.name)) return noRules;
      const made = rules.get(table.name) ?? settingRules(ruleset, subject, table, set);
      rules.set(table.name, made);
      return made;
    },
  };
  return subject;
}

export const noRules: readonly Rule[] = Object.freeze([]);

interface Opened {
  readonly ruleset: Ruleset;
  readonly person: Row;
  readonly key: Scalar;
  readonly now: string;
  readonly known: Known;
  readonly actor: Actor | undefined;
  readonly claims: Iterable<RoleClaim>;
  readonly reading: Reading;
  readonly onDiagnostic: (message: string) => void;
}

function openMemberships({
  ruleset,
  person,
  key,
  now,
  known,
  actor,
  claims,
  reading,
  onDiagnostic,
}: Opened): Memberships {
  const { schema, groups } = ruleset;
  return new Memberships({
    ruleset,
    person,
    key,
    given: assignedRoles({ schema, groups, person, key, now, claims }, reading),
    known,
    reading,
    withheld: actor?.withheld ?? new Set(),
    actor: actor?.memberships,
    onConflict: (role, other) => {
      onDiagnostic(`${key} holds "${role}" and "${other}", which exclude each other; both count as unknown`);
    },
  });
}

/** Whoever acts for the person, and the roles that they do not act in. */
interface Actor {
  readonly withheld: ReadonlySet<string>;
  readonly memberships: Memberships;
}

/**
 * Who acts for the person. `nobody` for one who is not there or not active: then nothing is permitted.
 *
 * @throws PortierError when no delegation from the person to them runs at that time.
 */
function findActor(
  ruleset: Ruleset,
  { actedBy, request, source, claims }: SubjectOptions,
  key: Scalar | null,
  now: string,
  reading: Reading,
): Actor | "nobody" | undefined {
  if (actedBy === undefined) return undefined;
  const { schema } = ruleset;
  const withheld = findDelegation(schema, key, String(actedBy), now, reading);
  const own: SubjectOptions = { person: String(actedBy), request, source, claims };
  const { memberships } = openSubject(ruleset, own, reading, () => {});
  return memberships === undefined ? "nobody" : { withheld, memberships };
}

/** `from <= now < until`; canonical instants are in order as texts. */
export function isInForce({ from, until }: Rule, now: string): boolean {
  return (from === undefined || from <= now) && (until === undefined || now < until);
}

function heldRoles({ schema }: Ruleset, memberships: Memberships | undefined): string[] {
  if (memberships === undefined) return [];
  const held = [...schema.roles.values()].flatMap(({ name, scope }): string[] => {
    if (scope === undefined) return memberships.of(name) === True ? [name] : [];
    return [...(memberships.heldOn(name) ?? [])].map((record) => `${name} of ${record}`);
  });
  return held.sort();
}

function findPerson(schema: Schema, { person, source }: SubjectOptions): Row | "absent" | undefined {
  if (person === undefined || person === null) return undefined;
  if (schema.people === undefined) throw portierError("no-people", { what: "a session for a person" });
  if (isRow(person)) return person;
  if (typeof person === "object") throw wrongRecord("a session", person);
  if (source === undefined) throw portierError("needs-source", { what: "opening a session by a person's key" });
  return source.find(schema.people.table.name, String(person)) ?? "absent";
}

function personKey(schema: Schema, person: Row): Scalar | null {
  const key = schema.people && singleKey(schema.people.table);
  if (key === undefined) return null;
  const value = storedValue(key.type, person[key.name]);
  if (value === undefined) {
    throw portierError("bad-value", { field: key.name, expects: key.type.expects, found: person[key.name] });
  }
  return value;
}

function isActive(schema: Schema, person: Row): boolean {
  const active = schema.people?.active;
  return active === undefined || storedValue(active.type, person[active.name]) === true;
}
