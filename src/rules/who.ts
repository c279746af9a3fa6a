import type { Expression, Operand } from "../conditions/expression.js";
import { type Part, readTexts } from "../schema/reader.js";
import type { Scalar } from "../schema/scalar.js";
import {
  type Field,
  type FieldPath,
  lastOf,
  type Role,
  type Schema,
  singleKey,
  type Table,
  writtenOut,
} from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { list } from "../schema/types/list.js";
import { scalarTypes } from "../schema/types/scalars.js";
import { readLine } from "./lines.js";
import { isPerson, personKeyIn, subjectOf } from "./person-entry.js";
import type { Who } from "./rule.js";

/** What an entry's names mean. */
export interface WhoScope {
  readonly schema: Schema;
  readonly table: Table;
  readonly groups: ReadonlySet<string>;
}

/** Reads `to` or `except`. Entries that name nothing are reported and left out. */
export function readWho(part: Part | undefined, what: string, scope: WhoScope): Who[] {
  const entries: Who[] = [];
  for (const entry of readTexts(part, what)) {
    const who = readEntry(entry, (entry.value as string).trim(), scope);
    if (who !== undefined) entries.push(who);
  }
  return entries;
}

function readEntry(part: Part, text: string, scope: WhoScope): Who | undefined {
  const { schema, table, groups } = scope;
  if (text === "anyone" || text === "signed-in") return { kind: text, text };
  if (text === "owner") return related(part, text, ownerPath(part, table), schema, "belongs");
  const [first = "", ...rest] = text.split(/\s+/);
  const after = text.slice(first.length).trim();
  if (first === "above" && rest.length > 0) {
    const path = after === "owner" ? ownerPath(part, table) : personPath(part, after, schema, table);
    return related(part, text, path, schema, "above");
  }
  if (first === "person" && rest.length > 0) return oneOf(part, text, after, schema);
  if (rest[0] === "of" && rest.length > 1) {
    return scoped(part, text, first, after.slice("of".length).trim(), scope);
  }
  const name = readMemberName(part, text, schema, groups, ["anyone", "signed-in", "owner", "above owner"]);
  return name === undefined ? undefined : { kind: "member", name, text };
}

/**
 * The name of a role, of a group, or of a line that begins with one, as memberships know it; undefined after a problem.
 * `others` are the words that would be right, too.
 */
export function readMemberName(
  part: Part,
  text: string,
  schema: Schema,
  groups: ReadonlySet<string>,
  others: readonly string[] = [],
): string | undefined {
  const { problems, path } = part;
  const line = readLine(text);
  const name = line?.of ?? text;
  const role = schema.roles.get(name);
  if (role === undefined && !groups.has(name)) {
    const candidates = [...others, ...schema.roles.keys(), ...groups];
    problems.add("unknown-who", { name, candidates }, path);
    return undefined;
  }
  if (role?.scope !== undefined) {
    problems.add("scoped-role", { role: name, scope: role.scope }, path);
    return undefined;
  }
  if (line !== undefined && schema.people?.manager === undefined) {
    problems.add("no-manager", { what: `"${text}"` }, path);
    return undefined;
  }
  return line?.text ?? name;
}

/** The current user, as an operand; undefined (and a problem) where the document knows no people. */
export function askingPerson(part: Part, what: string, schema: Schema): Operand | undefined {
  const subject = subjectOf(schema);
  if (subject === undefined) part.problems.add("no-people", { what }, part.path);
  return subject;
}

function related(
  part: Part,
  text: string,
  path: FieldPath | undefined,
  schema: Schema,
  kind: "belongs" | "above",
): Who | undefined {
  const subject = askingPerson(part, `"${text}"`, schema);
  if (subject === undefined || path === undefined) return undefined;
  if (kind === "belongs") return { kind: "related", met: { kind, path, subject }, text };
  const line = schema.people?.manager;
  if (line !== undefined) return { kind: "related", met: { kind, path, line, subject }, text };
  part.problems.add("no-manager", { what: `"${text}"` }, part.path);
  return undefined;
}

/** `person KEY`: a fixed person, whatever the record. */
function oneOf(part: Part, text: string, key: string, schema: Schema): Who | undefined {
  if (askingPerson(part, `"${text}"`, schema) === undefined) return undefined;
  const value = readKey(part, key, schema);
  const met = value === undefined ? undefined : isPerson(value.value, schema);
  return met && { kind: "related", met, text };
}

interface ConstantOperand {
  readonly kind: "constant";
  readonly type: FieldType;
  readonly value: Scalar;
}

/** A person's key as a document writes it; undefined after a problem. */
export function readKey(part: Part, key: string, schema: Schema): ConstantOperand | undefined {
  const field = schema.people && singleKey(schema.people.table);
  if (field === undefined) return undefined;
  const { type } = field;
  const value = personKeyIn(key, schema);
  if (value !== undefined) return { kind: "constant", type, value };
  part.problems.add("bad-value", { field: field.name, expects: type.expects, found: key }, part.path);
  return undefined;
}

/** `ROLE of PATH`, `ROLE of this`: held on the record that the path refers to. */
function scoped(part: Part, text: string, name: string, target: string, { schema, table }: WhoScope): Who | undefined {
  const role = schema.roles.get(name);
  if (role === undefined) {
    part.problems.add("unknown-role", { name, candidates: schema.roles.keys() }, part.path);
    return undefined;
  }
  if (role.scope === undefined) {
    part.problems.add("unscoped-role", { role: name }, part.path);
    return undefined;
  }
  const path: FieldPath | undefined = target === "this" ? [table.address] : referencePath(part, target, schema, table);
  if (path === undefined) return undefined;
  const leadsTo = target === "this" ? table.name : lastOf(path).type.target;
  if (leadsTo !== role.scope) {
    part.problems.add("wrong-scope", { role: name, scope: role.scope, where: `"${text}"` }, part.path);
    return undefined;
  }
  return { kind: "related", met: heldOn(role, path), text };
}

function heldOn(role: Role, path: FieldPath): Expression {
  return { kind: "belongs", path, subject: { kind: "held", type: list(scalarTypes.text), role: role.name } };
}

function ownerPath(part: Part, table: Table): FieldPath | undefined {
  if (table.owner === undefined) part.problems.add("no-owner", { table: table.name }, part.path);
  return table.owner;
}

/** A path of references from the table to a person, or a list of persons. */
function personPath(part: Part, text: string, schema: Schema, table: Table): FieldPath | undefined {
  const path = referencePath(part, text, schema, table);
  const people = schema.people;
  if (path === undefined) return undefined;
  const last = lastOf(path);
  const target = last.type.target ?? last.type.element?.target;
  if (people !== undefined && (target === people.table.name || last === singleKey(people.table))) return path;
  part.problems.add("not-a-person", { what: `"${text}"`, people: people?.table.name }, part.path);
  return undefined;
}

function referencePath(part: Part, text: string, schema: Schema, table: Table): FieldPath | undefined {
  const path: Field[] = [];
  let current: Table | undefined = table;
  let last: Field | undefined;
  for (const name of text.split(".")) {
    if (current === undefined) {
      const facts = { table: last?.table ?? table.name, field: last?.name ?? text, label: last?.type.noun ?? "field" };
      part.problems.add("not-a-reference", facts, part.path);
      return undefined;
    }
    const field: Field | undefined = current.byName.get(name);
    if (field === undefined) {
      part.problems.add("unknown-field", { table: current.name, name, candidates: current.byName.keys() }, part.path);
      return undefined;
    }
    path.push(...writtenOut(field));
    last = field;
    current = field.type.target === undefined ? undefined : schema.tables.get(field.type.target);
  }
  const [first, ...rest] = path;
  return first && [first, ...rest];
}
