import { readCondition } from "../conditions/check.js";
import { always, type Expression, never, type Operand } from "../conditions/expression.js";
import { reportCircle } from "../schema/circles.js";
import { checkWhoName, reportExclusive } from "../schema/declare-roles.js";
import { limits } from "../schema/limits.js";
import { isMapping, type Part, readMapping, readMeant, readShape, readText, readTexts } from "../schema/reader.js";
import type { Meant, Role, Schema } from "../schema/schema.js";
import { askingPerson, readKey } from "./who.js";

/** A named set of persons. */
export interface Group {
  readonly name: string;
  /** In the group is who is any of these, ... */
  readonly members: readonly Member[];
  /** ... meets this (about the person's own record), ... */
  readonly where: Expression;
  /** ... and is none of these. */
  readonly without: readonly Member[];
  /** Roles that the group's members hold. */
  readonly roles: readonly string[];
  readonly note: string | undefined;
  readonly meant: Meant;
}

export type Member =
  /** Somebody who holds a role, or is in another group. */
  | { readonly kind: "member"; readonly name: string; readonly text: string }
  | { readonly kind: "person"; readonly key: Operand; readonly text: string }
  /** That person, and everybody below them in the manager line. */
  | { readonly kind: "below"; readonly key: Operand; readonly text: string }
  /** A condition on the person's own record. */
  | { readonly kind: "where"; readonly condition: Expression; readonly text: string };

interface Arrow {
  readonly name: string;
  readonly part: Part;
}

/** Reads `groups`. Their names share one namespace with the roles; a circle of groups and roles is named. */
export function readGroups(part: Part | undefined, schema: Schema): Map<string, Group> {
  const groups = new Map<string, Group>();
  if (part === undefined) return groups;
  const { problems } = part;
  const entries = readMapping(part, "groups");
  if (entries.size > limits.groups) problems.add("too-large", { what: "groups", limit: limits.groups }, part.path);
  const names = new Set([...entries.keys()]);
  const arrows = new Map<string, Arrow[]>();
  for (const [name, entry] of entries) {
    if (!checkWhoName(entry, "a group", name)) continue;
    if (schema.roles.has(name)) {
      problems.add("duplicate-name", { what: "the name of a role and a group", name }, entry.path);
      continue;
    }
    const reader = new GroupReader(schema, names, name);
    groups.set(name, reader.read(entry));
    arrows.set(name, reader.arrows);
  }
  reportCircle(
    groups.keys(),
    (name) => [...(arrows.get(name) ?? []), ...carriers(name, groups, schema, part)],
    problems,
    "groups and roles",
  );
  return groups;
}

/** A group that carries a role. */
export interface Carrier {
  readonly group: Group;
  /** The role that it carries, which may bring others. */
  readonly role: Role;
}

/** For each role the groups that bring it, by carrying it or one that includes it. */
export function carriersOf(groups: ReadonlyMap<string, Group>, roles: Schema["roles"]): Map<string, Carrier[]> {
  const carriers = new Map<string, Carrier[]>();
  for (const group of groups.values()) {
    for (const name of group.roles) {
      const role = roles.get(name);
      for (const brought of role?.closure ?? []) {
        const list = carriers.get(brought) ?? [];
        carriers.set(brought, list);
        if (role !== undefined) list.push({ group, role });
      }
    }
  }
  return carriers;
}

/** What a role comes through, besides being given: the groups that carry it or a role that includes it. */
function carriers(name: string, groups: ReadonlyMap<string, Group>, schema: Schema, part: Part): Arrow[] {
  if (!schema.roles.has(name)) return [];
  const carrying = [...groups.values()].filter((group) =>
    group.roles.some((role) => schema.roles.get(role)?.closure.has(name) === true),
  );
  return carrying.map((group) => ({ name: group.name, part: { ...part, path: [...part.path, group.name] } }));
}

class GroupReader {
  readonly #schema: Schema;
  readonly #names: ReadonlySet<string>;
  readonly #name: string;
  /** The groups and roles that membership depends on. */
  readonly arrows: Arrow[] = [];

  constructor(schema: Schema, names: ReadonlySet<string>, name: string) {
    this.#schema = schema;
    this.#names = names;
    this.#name = name;
  }

  read(part: Part): Group {
    const what = `group "${this.#name}"`;
    const shape = readShape(part, what, ["members", "where", "without", "roles", "note", "meant"]);
    if (!shape.has("members")) part.problems.add("missing-key", { what, key: "members" }, part.path);
    return {
      name: this.#name,
      members: this.#members(shape.get("members")),
      where: this.#where(shape.get("where")),
      without: this.#members(shape.get("without")),
      roles: this.#roles(shape.get("roles")),
      note: readText(shape.get("note"), "note"),
      meant: readMeant(shape.get("meant")),
    };
  }

  #members(part: Part | undefined): Member[] {
    if (part === undefined) return [];
    const parts = Array.isArray(part.value)
      ? part.value.map((value, index): Part => ({ ...part, value, path: [...part.path, index] }))
      : [part];
    return parts.map((one) => this.#member(one)).filter((member) => member !== undefined);
  }

  #member(part: Part): Member | undefined {
    if (isMapping(part.value)) return this.#longMember(part);
    const text = readText(part, `a member of "${this.#name}"`)?.trim();
    if (text === undefined) return undefined;
    const person = /^person\s+(.*)$/s.exec(text)?.[1];
    if (person !== undefined) {
      const key = this.#key(part, person, text);
      return key && { kind: "person", key, text };
    }
    const role = this.#schema.roles.get(text);
    if (role?.scope !== undefined) part.problems.add("scoped-role", { role: text, scope: role.scope }, part.path);
    else if (role !== undefined || this.#names.has(text)) {
      this.arrows.push({ name: text, part });
      return { kind: "member", name: text, text };
    } else {
      const candidates = [...this.#schema.roles.keys(), ...this.#names];
      part.problems.add("unknown-who", { name: text, candidates }, part.path);
    }
    return undefined;
  }

  #longMember(part: Part): Member | undefined {
    const shape = readShape(part, `a member of "${this.#name}"`, ["below", "where"]);
    const below = shape.get("below");
    const where = shape.get("where");
    if ((below === undefined) === (where === undefined)) {
      const expected = "either { below: KEY } or { where: CONDITION }";
      part.problems.add("wrong-shape", { what: `a member of "${this.#name}"`, expected, found: part.value }, part.path);
      return undefined;
    }
    if (where !== undefined) {
      const text = readText(where, "where");
      return text === undefined ? undefined : { kind: "where", condition: this.#where(where), text: `where ${text}` };
    }
    if (below === undefined) return undefined;
    const value = String(below.value);
    if (this.#schema.people?.manager === undefined) {
      below.problems.add("no-manager", { what: `"below" in group "${this.#name}"` }, below.path);
      return undefined;
    }
    const key = this.#key(below, value, `below ${value}`);
    return key && { kind: "below", key, text: `below ${value}` };
  }

  #key(part: Part, key: string, text: string): Operand | undefined {
    if (askingPerson(part, `"${text}"`, this.#schema) === undefined) return undefined;
    return readKey(part, key.trim(), this.#schema);
  }

  /** A condition on the person's own record; true when there is none. */
  #where(part: Part | undefined): Expression {
    if (part === undefined) return always;
    if (typeof part.value === "boolean") return part.value ? always : never;
    const text = readText(part, `where of group "${this.#name}"`);
    const { people } = this.#schema;
    if (text === undefined || people === undefined) {
      if (people === undefined) part.problems.add("no-people", { what: `group "${this.#name}"` }, part.path);
      return never;
    }
    const scope = {
      schema: this.#schema,
      table: people.table,
      problems: part.problems,
      path: part.path,
      isAction: undefined,
    };
    return readCondition(text, scope) ?? never;
  }

  /** Nobody may hold two roles that exclude each other, so no group can carry both. */
  #roles(part: Part | undefined): string[] {
    const roles = this.#knownRoles(part);
    if (part !== undefined) reportExclusive(`group "${this.#name}"`, roles, this.#schema.roles, part);
    return roles;
  }

  #knownRoles(part: Part | undefined): string[] {
    const roles: string[] = [];
    for (const entry of readTexts(part, `roles of group "${this.#name}"`)) {
      const role: Role | undefined = this.#schema.roles.get(entry.value as string);
      if (role?.scope !== undefined) {
        entry.problems.add("scoped-role", { role: role.name, scope: role.scope }, entry.path);
      } else if (role !== undefined) roles.push(role.name);
      else {
        const facts = { name: entry.value as string, candidates: this.#schema.roles.keys() };
        entry.problems.add("unknown-role", facts, entry.path);
      }
    }
    return roles;
  }
}
