import { compileTest } from "../conditions/evaluate.js";
import { type Expression, type Operand, readsOtherRecords, visitOperands } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { False, True, type Truth } from "../conditions/truth.js";
import type { Group } from "../rules/groups.js";
import type { Ruleset } from "../rules/ruleset.js";
import { collectOperands } from "../rules/session-operands.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, type RoleSource, type Schema, singleKey } from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";
import { isRunning } from "./assigned-roles.js";
import { isAlong } from "./memberships.js";
import { isInForce } from "./open-subject.js";
import { readSettings } from "./person-settings.js";
import { requestValue } from "./session-values.js";
import { addSettingValues } from "./setting-rules.js";

/** The current user, as far as they are like others. */
export interface Like {
  /** Two persons with the same text have the same residual plan, but for their `values`, and hold the same roles. */
  readonly id: string;
  readonly key: Scalar;
  /** As a subject's: by slot. */
  readonly values: readonly (Scalar | undefined)[];
}

/** What the current user is told apart by. */
export interface Opened {
  readonly person: Row;
  /** The values of the request, `now` among them. Read at the first call. */
  readonly request: () => ReadonlyMap<string, Scalar | null>;
  readonly reading: Reading;
}

type Link = Extract<RoleSource, { readonly kind: "link" }>;

/** One thing that tells persons apart. Undefined where it cannot be told without working out who they are. */
type Part = (opened: Opened, key: Scalar) => string | undefined;

/** The texts are kept: a person of whom more has a say is worked out each time. */
const mostText = 2_000;

/** A value of the session; undefined for one that cannot be read. */
type Value = (opened: Opened) => Scalar | null | undefined;

/**
 * Tells from what is stored of a person whether they are like another one, without working out what rules make of it:
 * from the fields that roles, groups and conditions read, the records that give roles, and the request with its instant.
 */
export class Likeness {
  readonly #ruleset: Ruleset;
  readonly #key: Value;
  readonly #parts: readonly Part[];
  readonly #compared: readonly { readonly slot: number; readonly value: Value }[];

  private constructor(
    ruleset: Ruleset,
    key: Value,
    parts: readonly Part[],
    compared: readonly { readonly slot: number; readonly value: Value }[],
  ) {
    this.#ruleset = ruleset;
    this.#key = key;
    this.#parts = parts;
    this.#compared = compared;
  }

  /** Undefined where more has a say: what other records say of a person. */
  static of(ruleset: Ruleset): Likeness | undefined {
    const { schema, groups, sessionOperands, timed } = ruleset;
    const { people } = schema;
    const key = people && singleKey(people.table);
    if (people === undefined || key === undefined) return undefined;
    const fields = new Set<Field>(people.active && [people.active]);
    const parts: Part[] = [];
    const compared: { slot: number; value: Value }[] = [];
    for (const source of people.roles) {
      if (source.kind === "field") fields.add(source.field);
      else if (linkFields(source).every(isPlain)) parts.push((opened, own) => linked(source, own, opened));
      else return undefined;
    }
    for (const [name, operand] of sessionOperands.all) {
      // The records on which a role is held follow from what gives it.
      if (operand.kind === "held") continue;
      const value = sessionValue(operand, schema);
      if (value === undefined) return undefined;
      const slot = sessionOperands.slots.get(name);
      if (slot !== undefined) compared.push({ slot, value });
      else if (operand.kind === "me") fields.add(operand.path[0]);
      else parts.push((opened) => print(value(opened)));
    }
    for (const name of ruleset.memberships) if (!addLine(name, ruleset, parts)) return undefined;
    for (const group of groups.values()) {
      if (!addGroup(group, ruleset, { key, fields, parts })) return undefined;
    }
    for (const rule of timed)
      parts.push(({ request }) => (isInForce(rule, request().get("now") as string) ? "t" : "f"));
    for (const { name } of fields) parts.push(({ person }) => print(person[name]));
    return [key, ...fields].every(isPlain) ? new Likeness(ruleset, stored(key), parts, compared) : undefined;
  }

  /** Undefined for a person who has to be looked at more closely. */
  of(opened: Opened): Like | undefined {
    const key = this.#key(opened);
    if (key == null) return undefined;
    let id = "";
    for (let i = 0; i < this.#parts.length; i++) {
      const part = (this.#parts[i] as Part)(opened, key);
      if (part === undefined) return undefined;
      id += part;
    }
    const values: (Scalar | undefined)[] = [];
    for (let i = 0; i < this.#compared.length; i++) {
      const { slot, value } = this.#compared[i] as { slot: number; value: Value };
      const known = value(opened);
      if (known === undefined) return undefined;
      values[slot] = known ?? undefined;
      id += known === null ? "n" : "v";
    }
    const shape = this.#settings(opened, key, values);
    if (shape === undefined) return undefined;
    id += shape;
    return id.length > mostText ? undefined : { id, key, values };
  }

  /** What is set of them; undefined where it cannot be read, which the opening tells of. */
  #settings({ request, reading }: Opened, key: Scalar, values: (Scalar | undefined)[]): string | undefined {
    const { schema } = this.#ruleset;
    const { settings } = schema.people ?? {};
    if (settings === undefined) return "";
    const isEnding = settings.from !== undefined || settings.until !== undefined;
    try {
      const now = isEnding ? (request().get("now") as string) : "";
      const set = readSettings(schema, key, now, { ...silent, source: reading.source });
      addSettingValues(this.#ruleset, set, values);
      return set.shape;
    } catch {
      return undefined;
    }
  }
}

function isPlain({ lookup, by, name }: Field): boolean {
  return lookup === undefined && by === undefined && !(name in Object.prototype);
}

function stored({ name, type }: Field): Value {
  return ({ person }) => {
    const raw = person[name];
    return raw === null ? null : storedValue(type, raw);
  };
}

function sessionValue(operand: Operand, schema: Schema): Value | undefined {
  switch (operand.kind) {
    case "me":
      return operand.path.length === 1 && isPlain(operand.path[0]) ? stored(operand.path[0]) : undefined;
    case "request":
    case "today":
      return ({ request }) => requestValue(operand, request(), schema);
    default:
      return undefined;
  }
}

/** What was found to have a say so far. */
interface Found {
  readonly key: Field;
  readonly fields: Set<Field>;
  readonly parts: Part[];
}

/** Adds what has a say in who is in a group; false where other records do, but for the line of managers. */
function addGroup({ members, where, without }: Group, ruleset: Ruleset, { key, fields, parts }: Found): boolean {
  const conditions: Expression[] = [where];
  for (const member of [...members, ...without]) {
    if (member.kind === "person") fields.add(key);
    if (member.kind === "where") conditions.push(member.condition);
    if (member.kind === "along") {
      parts.push(({ person, reading }, own) => tried(() => isAlong(ruleset, person, own, member, reading)));
    }
    if (member.kind === "member" && !addLine(member.name, ruleset, parts)) return false;
  }
  let isOwn = !conditions.some(readsOtherRecords);
  for (const condition of conditions) {
    visitOperands(condition, (operand) => {
      if (operand.kind === "field" || operand.kind === "me") {
        fields.add(operand.path[0]);
        if (operand.path.length > 1) isOwn = false;
      } else if (operand.kind === "request" || operand.kind === "today") {
        const value = sessionValue(operand, ruleset.schema);
        parts.push((opened) => print(value?.(opened)));
      } else if (operand.kind === "held") isOwn = false;
    });
  }
  return isOwn;
}

/** Adds whether somebody is on the line of others; false where that takes what only a session knows. */
function addLine(name: string, ruleset: Ruleset, parts: Part[]): boolean {
  const line = ruleset.lines.get(name);
  if (line === undefined) return true;
  if (collectOperands([line.test]).all.size > 0) return false;
  const test = compileTest(line.test);
  parts.push(({ person, reading }) => tried(() => test(person, reading)));
  return true;
}

function tried(truth: () => Truth): string | undefined {
  try {
    return String(truth());
  } catch {
    return undefined;
  }
}

function linkFields({ person, role, on, from, until }: Link): readonly Field[] {
  return [person, role, on, from, until].filter((field) => field !== undefined);
}

/** What does not fit its type is reported where it is worked out who the person is. */
const silent: Reading = { source: undefined, badData: () => {}, fault: () => {} };

/** The roles that records of another table give now. */
function linked(link: Link, key: Scalar, { request, reading: { source } }: Opened): string | undefined {
  const { table, person, role, on } = link;
  if (source?.referring === undefined) return undefined;
  const now = request().get("now") as string;
  let id = "";
  for (const row of source.referring(table.name, person.name, String(key))) {
    if (storedValue(person.type, row[person.name]) !== key) continue;
    const running = isRunning(link, row, now, silent);
    if (running === False) continue;
    const name = print(row[role.name]);
    const record = on === undefined ? "" : print(row[on.name]);
    if (running !== True || name === undefined || record === undefined) return undefined;
    id += `${name}${record};`;
  }
  return `(${id})`;
}

/** A text for each plain value, told apart by type and length. */
function print(value: unknown): string | undefined {
  switch (typeof value) {
    case "string":
      return `${value.length}:${value}`;
    case "number":
      return `#${value};`;
    case "boolean":
      return value ? "t" : "f";
    case "undefined":
      return "u";
    default:
      if (value === null) return "n";
      return Array.isArray(value) && value.every((one) => typeof one === "string")
        ? `[${value.map((one) => `${one.length}:${one}`).join("")}]`
        : undefined;
  }
}
