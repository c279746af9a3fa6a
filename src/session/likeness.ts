import { type Expression, readsOtherRecords, visitOperands } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { Ruleset } from "../rules/compile-rules.js";
import type { Group } from "../rules/groups.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, type RoleSource, singleKey } from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";

type Link = Extract<RoleSource, { readonly kind: "link" }>;

/** Who asks, as far as they are like others. */
export interface Like {
  /** Two persons with the same text have the same residual plan, but for their `values`, and hold the same roles. */
  readonly id: string;
  readonly key: Scalar;
  /** As a subject's: by slot. */
  readonly values: readonly (Scalar | undefined)[];
}

/**
 * Tells from what is stored of a person whether they are like another one, without working out what rules make of it:
 * from the fields that roles, groups and conditions read, and the records that give roles.
 */
export class Likeness {
  /** What has a say as a whole, and what only by whether there is a value. */
  readonly #fields: readonly Field[];
  readonly #compared: readonly { readonly slot: number; readonly field: Field }[];
  readonly #links: readonly Link[];
  readonly #key: Field;

  private constructor(key: Field, fields: ReadonlySet<Field>, compared: ReadonlyMap<number, Field>, links: Link[]) {
    this.#key = key;
    this.#fields = [...fields];
    this.#compared = [...compared].map(([slot, field]) => ({ slot, field }));
    this.#links = links;
  }

  /** Undefined where more has a say: the request, the day, other records of persons, rules that are there for a time. */
  static of({ schema, groups, sessionOperands, timed }: Ruleset): Likeness | undefined {
    const { people } = schema;
    const key = people && singleKey(people.table);
    if (people === undefined || key === undefined || timed.length > 0) return undefined;
    const fields = new Set<Field>(people.active && [people.active]);
    const compared = new Map<number, Field>();
    const links: Link[] = [];
    for (const source of people.roles) {
      if (source.kind === "field") fields.add(source.field);
      else links.push(source);
    }
    for (const [name, operand] of sessionOperands.all) {
      if (operand.kind === "held") continue;
      if (operand.kind !== "me" || operand.path.length > 1) return undefined;
      const slot = sessionOperands.slots.get(name);
      if (slot === undefined) fields.add(operand.path[0]);
      else compared.set(slot, operand.path[0]);
    }
    for (const group of groups.values()) {
      const read = fieldsOf(group);
      if (read === undefined) return undefined;
      for (const field of read) fields.add(field === "key" ? key : field);
    }
    const linking = links.flatMap(({ person, role, on, from, until }) => [person, role, on, from, until]);
    const isPlain = ({ lookup, by, name }: Field) =>
      lookup === undefined && by === undefined && !(name in Object.prototype);
    const read = [key, ...fields, ...compared.values(), ...linking].filter((field) => field !== undefined);
    if (!read.every(isPlain)) return undefined;
    return new Likeness(key, fields, compared, links);
  }

  /** Undefined for a person who has to be looked at more closely. */
  of(person: Row, now: () => string, reading: Reading): Like | undefined {
    const key = this.#value(person, this.#key);
    if (key == null) return undefined;
    let id = "";
    for (let i = 0; i < this.#fields.length; i++) {
      const part = print(person[(this.#fields[i] as Field).name]);
      if (part === undefined) return undefined;
      id += part;
    }
    const values: (Scalar | undefined)[] = [];
    for (let i = 0; i < this.#compared.length; i++) {
      const { slot, field } = this.#compared[i] as { slot: number; field: Field };
      const value = this.#value(person, field);
      if (value === undefined) return undefined;
      values[slot] = value ?? undefined;
      id += value === null ? "n" : "v";
    }
    for (const link of this.#links) {
      const given = linked(link, key, now, reading);
      if (given === undefined) return undefined;
      id += given;
    }
    return { id, key, values };
  }

  /** Undefined for what does not fit the field's type. */
  #value(person: Row, { name, type }: Field): Scalar | null | undefined {
    const raw = person[name];
    return raw === null ? null : storedValue(type, raw);
  }
}

/** The fields of the person that have a say in a group, and `key` where it names somebody; undefined where more does. */
function fieldsOf({ members, where, without }: Group): readonly (Field | "key")[] | undefined {
  const found: (Field | "key")[] = [];
  const conditions: Expression[] = [where];
  for (const member of [...members, ...without]) {
    if (member.kind === "below") return undefined;
    if (member.kind === "person") found.push("key");
    if (member.kind === "where") conditions.push(member.condition);
  }
  for (const condition of conditions) {
    if (readsOtherRecords(condition)) return undefined;
    let isOwn = true;
    visitOperands(condition, (operand) => {
      if (operand.kind === "field" || operand.kind === "me") found.push(operand.path[0]);
      if (operand.kind === "me" && operand.path.length > 1) isOwn = false;
      if (["request", "today", "held"].includes(operand.kind)) isOwn = false;
    });
    if (!isOwn) return undefined;
  }
  return found;
}

/** The roles that records of another table give now. */
function linked(link: Link, key: Scalar, now: () => string, reading: Reading): string | undefined {
  const { table, person, role, on, from, until } = link;
  if (reading.source?.referring === undefined) return undefined;
  let id = "l";
  for (const row of reading.source.referring(table.name, person.name, String(key))) {
    if (storedValue(person.type, row[person.name]) !== key) continue;
    const begun = momentOf(from, row);
    const ended = momentOf(until, row);
    const name = print(row[role.name]);
    const record = on === undefined ? "" : print(row[on.name]);
    if (begun === undefined || ended === undefined || name === undefined || record === undefined) return undefined;
    if ((begun !== null && now() < begun) || (ended !== null && ended <= now())) continue;
    id += `${name}${record};`;
  }
  return id;
}

/** Null for no end; undefined for one that cannot be read. */
function momentOf(field: Field | undefined, row: Row): string | null | undefined {
  const raw = field === undefined ? null : row[field.name];
  return field === undefined || raw === null ? null : (storedValue(field.type, raw) as string | undefined);
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
