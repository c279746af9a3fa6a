import { compileRead, type Reading, rawValue } from "../conditions/evaluate.js";
import type { Operand, SessionOperand } from "../conditions/expression.js";
import type { Row, Source } from "../conditions/source.js";
import type { Known } from "../conditions/specialize.js";
import { type Ruleset, sessionOperandName } from "../rules/compile-rules.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import { type Schema, singleKey } from "../schema/schema.js";
import { canonicalTimestamp } from "../schema/types/timestamp.js";

/**
 * Who asks, as far as rules can tell: everything that partial evaluation needs. Two subjects with the same `classKey`
 * get the same answers and share one residual plan.
 */
export interface Subject {
  /** False for a person who is inactive or not in the people table: no rule is met, `anyone` included. */
  readonly meets: boolean;
  readonly signedIn: boolean;
  /** Everything held, includes closed. */
  readonly roles: ReadonlySet<string>;
  /** The person's key in canonical form; null for an anonymous visitor, undefined for a made-up holder of roles. */
  readonly key: Scalar | null | undefined;
  readonly known: Known;
  readonly classKey: string;
}

export interface SubjectOptions {
  readonly person?: Row | string | number | null | undefined;
  readonly request?: Readonly<Record<string, unknown>> | undefined;
  readonly source?: Source | undefined;
}

/**
 * Works out who asks. Throws a PortierError for a role that does not exist, for request values that do not fit, and
 * for a person given by key without a source; a person who is not there or not active opens a subject that meets nothing.
 */
export function openSubject(ruleset: Ruleset, options: SubjectOptions, reading: Reading): Subject {
  const { schema } = ruleset;
  const person = findPerson(schema, options);
  const request = readRequest(schema, options.request ?? {});
  const key = person === undefined ? null : personKey(schema, person);
  const meets = person !== "absent" && (person === undefined || isActive(schema, person));
  const row = person === "absent" ? undefined : person;
  const held = row === undefined || !meets ? new Set<string>() : heldRoles(schema, row);

  const constants = new Map<string, () => Operand>();
  const facts: unknown[] = [];
  for (const [name, operand] of ruleset.sessionOperands) {
    const constant = readConstant(operand, row, request, reading, schema);
    constants.set(name, constant.read);
    facts.push(constant.fact);
  }
  const known: Known = (operand) => constants.get(sessionOperandName(operand))?.() ?? operand;
  const classKey = JSON.stringify([meets, row !== undefined, [...held].sort(), facts]);
  return { meets, signedIn: row !== undefined, roles: held, key, known, classKey };
}

/** A made-up person who holds these roles and of whom nothing else is known, for questions about a role. */
export function roleSubject(schema: Schema, roles: readonly string[]): Subject {
  const held = new Set<string>();
  for (const name of roles) {
    const role = schema.roles.get(name);
    if (role === undefined) throw portierError("unknown-role", { name, candidates: schema.roles.keys() });
    for (const one of role.closure) held.add(one);
  }
  const classKey = `roles:${JSON.stringify([...held].sort())}`;
  return { meets: true, signedIn: true, roles: held, key: undefined, known: (operand) => operand, classKey };
}

function findPerson(schema: Schema, { person, source }: SubjectOptions): Row | "absent" | undefined {
  if (person === undefined || person === null) return undefined;
  if (schema.people === undefined) throw portierError("no-people", { what: "a session for a person" });
  if (typeof person === "object") return person;
  if (source === undefined) throw portierError("needs-source", { what: "opening a session by a person's key" });
  return source.find(schema.people.table.name, String(person)) ?? "absent";
}

function personKey(schema: Schema, person: Row | "absent"): Scalar | null {
  const key = schema.people && singleKey(schema.people.table);
  if (person === "absent" || key === undefined) return null;
  const value = key.type.canonical(person[key.name]);
  if (value === undefined) {
    throw portierError("bad-value", { field: key.name, expects: key.type.expects, found: person[key.name] });
  }
  return value;
}

function isActive(schema: Schema, person: Row): boolean {
  const active = schema.people?.active;
  return active === undefined || person[active.name] === true;
}

function heldRoles(schema: Schema, person: Row): Set<string> {
  const held = new Set<string>();
  for (const field of schema.people?.roles ?? []) {
    const value = rawValue(person, field.name);
    if (value === null || value === undefined) continue;
    for (const name of Array.isArray(value) ? value : [value]) {
      const role = typeof name === "string" ? schema.roles.get(name) : undefined;
      if (role === undefined) {
        const where = `"${field.name}" of the person`;
        throw portierError("unknown-role", { name: String(name), candidates: schema.roles.keys(), where });
      }
      for (const one of role.closure) held.add(one);
    }
  }
  return held;
}

function readRequest(schema: Schema, given: Readonly<Record<string, unknown>>): Map<string, Scalar | null> {
  const values = new Map<string, Scalar | null>();
  for (const name of Object.keys(given)) {
    const type = schema.request.get(name);
    const value = given[name];
    if (name === "now") {
      const now = canonicalTimestamp(value instanceof Date ? value.toISOString() : value);
      const expects = 'an instant with its zone such as "2027-01-31T09:00:00Z"';
      if (now === undefined) throw portierError("bad-value", { field: "request.now", expects, found: value });
      values.set(name, now);
    } else if (type === undefined) {
      throw portierError("unknown-request", { name, candidates: ["now", ...schema.request.keys()] });
    } else if (value === null || value === undefined) {
      values.set(name, null);
    } else {
      const canonical = type.canonical(value);
      if (canonical === undefined) {
        throw portierError("bad-value", { field: `request.${name}`, expects: type.expects, found: value });
      }
      values.set(name, canonical);
    }
  }
  if (!values.has("now")) values.set("now", canonicalTimestamp(new Date().toISOString()) ?? null);
  return values;
}

/** A session's value for an operand, read once: `fact` tells classes of subjects apart, `read` may be a fault. */
function readConstant(
  operand: SessionOperand,
  person: Row | undefined,
  request: ReadonlyMap<string, Scalar | null>,
  reading: Reading,
  schema: Schema,
): { readonly read: () => Operand; readonly fact: unknown } {
  const { type } = operand;
  const constant = (value: Scalar | null | undefined): { read: () => Operand; fact: unknown } => {
    const made: Operand = value === undefined ? { kind: "unreadable", type } : { kind: "constant", type, value };
    return { read: () => made, fact: value === undefined ? ["unreadable"] : value };
  };
  if (operand.kind === "request") return constant(request.get(operand.name) ?? null);
  if (operand.kind === "today") return constant(dayOf(request.get("now") as string, schema.timeZone));
  if (person === undefined) return constant(null);
  try {
    return constant(compileRead({ kind: "field", type, path: operand.path })(person, reading));
  } catch (fault) {
    // The person's own records could not be read: only what depends on them fails, and it does not share a plan.
    const read = () => {
      throw fault;
    };
    return { read, fact: { fault: String(fault) } };
  }
}

/** The calendar day of an instant in a time zone, as `YYYY-MM-DD`. */
function dayOf(instant: string, timeZone: string): string {
  const format = new Intl.DateTimeFormat("en-US", {
    timeZone,
    calendar: "iso8601",
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
  });
  const parts = new Map(format.formatToParts(new Date(instant)).map(({ type, value }) => [type, value]));
  return `${(parts.get("year") ?? "").padStart(4, "0")}-${parts.get("month")}-${parts.get("day")}`;
}
