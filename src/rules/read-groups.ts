import { readCondition } from "../conditions/check.js";
import { always, type Expression, never, type Operand } from "../conditions/expression.js";
import type { PersonMembers } from "../conditions/resolve.js";
import { reportCircle } from "../schema/circles.js";
import { checkWhoName, reportExclusive } from "../schema/declare-roles.js";
import { limits } from "../schema/limits.js";
import { isMapping, type Part, readIgnore, readMapping, readShape, readText, readTexts } from "../schema/reader.js";
import type { Problems } from "../schema/report.js";
import type { Role, Schema } from "../schema/schema.js";
import type { Carrier, Group, Member } from "./groups.js";
import { readLine } from "./lines.js";
import { awayFrom } from "./membership.js";
import { StoredMembers } from "./stored-members.js";
import { askingPerson, readKey, readMemberName } from "./who.js";

interface Arrow {
  readonly name: string;
  readonly part: Part;
}

export interface ReadGroups {
  readonly groups: ReadonlyMap<string, Group>;
  /** Who is in them, as conditions on a person's record. */
  readonly members: StoredMembers;
}

/** Reads `groups`. Their names share one namespace with the roles; a circle of groups and roles is named. */
export function readGroups(part: Part | undefined, schema: Schema, problems: Problems): ReadGroups {
  const entries = part === undefined ? new Map<string, Part>() : readMapping(part, "groups");
  if (part !== undefined && entries.size > limits.groups)
    problems.add("too-large", { what: "groups", limit: limits.groups }, part.path);
  const reading = new GroupsReader(entries, schema, problems);
  const groups = reading.all();
  if (part !== undefined) {
    reportCircle(
      groups.keys(),
      (name) => [...(reading.arrows.get(name) ?? []), ...carriers(name, groups, schema, part)],
      problems,
      "groups and roles",
    );
  }
  return { groups, members: reading.members };
}

/** Reads each group once: where a condition asks who is in another one, that one first. */
class GroupsReader {
  readonly arrows = new Map<string, readonly Arrow[]>();
  readonly members: StoredMembers;
  readonly #entries: ReadonlyMap<string, Part>;
  readonly #schema: Schema;
  readonly #names: ReadonlySet<string>;
  readonly #problems: Problems;
  readonly #groups = new Map<string, Group>();
  readonly #open = new Set<string>();
  #carriers: ReadonlyMap<string, readonly string[]> | undefined;

  constructor(entries: ReadonlyMap<string, Part>, schema: Schema, problems: Problems) {
    this.#entries = entries;
    this.#schema = schema;
    this.#names = new Set(entries.keys());
    this.#problems = problems;
    const source = {
      schema,
      group: (name: string) => this.#group(name),
      carriers: (role: string) => this.#carriersOf(role),
    };
    this.members = new StoredMembers(this.#names, source, (what) => {
      const part = entries.get(what);
      const facts = { what: `what makes somebody else "${what}"`, limit: limits.membershipTests };
      problems.add("too-large", facts, part?.path ?? ["groups"]);
    });
  }

  /** In the order of the document. */
  all(): Map<string, Group> {
    const read = new Map<string, Group>();
    for (const name of this.#entries.keys()) {
      const group = this.#group(name);
      if (group !== undefined) read.set(name, group);
    }
    return read;
  }

  /** Undefined for one that is none, and for one that is being read: that is a circle. */
  #group(name: string): Group | undefined {
    const known = this.#groups.get(name);
    const entry = this.#entries.get(name);
    if (known !== undefined || entry === undefined || this.#open.has(name)) return known;
    this.#open.add(name);
    if (!checkWhoName(entry, "a group", name)) return undefined;
    if (this.#schema.roles.has(name)) {
      this.#problems.add("duplicate-name", { what: "the name of a role and a group", name }, entry.path);
      return undefined;
    }
    const reader = new GroupReader(this.#schema, this.members, name);
    const group = reader.read(entry);
    this.#groups.set(name, group);
    this.arrows.set(name, reader.arrows);
    return group;
  }

  #carriersOf(role: string): Carrier[] {
    this.#carriers ??= carriersWritten(this.#entries, this.#schema);
    return (this.#carriers.get(role) ?? []).flatMap((name) => {
      const group = this.#group(name);
      if (group === undefined) return [];
      const brings = group.roles.flatMap((one) => this.#schema.roles.get(one) ?? []);
      return brings.filter(({ closure }) => closure.has(role)).map((one) => ({ group, role: one }));
    });
  }
}

/** For each role the groups that bring it, as far as their entries can be read. */
function carriersWritten(entries: ReadonlyMap<string, Part>, { roles }: Schema): Map<string, string[]> {
  const carriers = new Map<string, string[]>();
  for (const [name, { value }] of entries) {
    const carried = isMapping(value) ? value["roles"] : undefined;
    const closures = (Array.isArray(carried) ? carried : [carried]).map(
      (role) => roles.get(String(role))?.closure ?? [],
    );
    for (const brought of new Set(closures.flatMap((closure) => [...closure]))) {
      const list = carriers.get(brought);
      if (list === undefined) carriers.set(brought, [name]);
      else list.push(name);
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
  readonly #stored: StoredMembers;
  readonly #name: string;
  /** The groups and roles that membership depends on. */
  readonly arrows: Arrow[] = [];

  constructor(schema: Schema, members: StoredMembers, name: string) {
    this.#schema = schema;
    this.#stored = members;
    this.#name = name;
  }

  read(part: Part): Group {
    const what = `group "${this.#name}"`;
    const shape = readShape(part, what, ["members", "where", "without", "roles", "note", "ignore"]);
    if (!shape.has("members")) part.problems.add("missing-key", { what, key: "members" }, part.path);
    return {
      name: this.#name,
      members: this.#members(shape.get("members")),
      where: this.#where(shape.get("where")),
      without: this.#members(shape.get("without")),
      roles: this.#roles(shape.get("roles")),
      note: readText(shape.get("note"), "note"),
      ignore: readIgnore(shape.get("ignore")),
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
    const name = readMemberName(part, text, this.#schema, this.#stored.groups);
    if (name === undefined) return undefined;
    this.arrows.push({ name: readLine(name)?.of ?? name, part });
    return { kind: "member", name, text };
  }

  #longMember(part: Part): Member | undefined {
    const what = `a member of "${this.#name}"`;
    const shape = readShape(part, what, ["below", "above", "levels", "where"]);
    const where = shape.get("where");
    const directions = (["below", "above"] as const).filter((direction) => shape.has(direction));
    const [direction] = directions;
    const isOne = directions.length + (where === undefined ? 0 : 1) === 1;
    if (!isOne || (shape.has("levels") && direction === undefined)) {
      const expected = "one of { below: KEY }, { above: KEY }, either with levels, or { where: CONDITION }";
      part.problems.add("wrong-shape", { what, expected, found: part.value }, part.path);
      return undefined;
    }
    if (where !== undefined) {
      const text = readText(where, "where");
      return text === undefined ? undefined : { kind: "where", condition: this.#where(where), text: `where ${text}` };
    }
    const end = direction && shape.get(direction);
    if (direction === undefined || end === undefined) return undefined;
    const value = String(end.value);
    if (this.#schema.people?.manager === undefined) {
      end.problems.add("no-manager", { what: `"${direction}" in group "${this.#name}"` }, end.path);
      return undefined;
    }
    const levels = readLevels(shape.get("levels"), what);
    const text = `${levels === undefined ? "" : `${levels} levels `}${direction} ${value}`;
    const key = this.#key(end, value, text);
    return key && { kind: "along", key, direction, levels, test: awayFrom(key, direction, levels, this.#schema), text };
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
    const members: PersonMembers = {
      groups: this.#stored.groups,
      of: (name) => {
        this.arrows.push({ name, part });
        return this.#stored.of(name);
      },
      holdsOn: (role, person, record) => this.#stored.holdsOn(role, person, record),
      ofMe: undefined,
    };
    const { problems, path } = part;
    const scope = { schema: this.#schema, table: people.table, problems, path, isAction: undefined, members };
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

/** How many steps of the manager line count, from 1 on; undefined for all of them. */
function readLevels(part: Part | undefined, what: string): number | undefined {
  if (part === undefined) return undefined;
  const { value } = part;
  if (Number.isInteger(value) && (value as number) >= 1 && (value as number) <= 9_999) return value as number;
  const facts = { field: `levels of ${what}`, expects: "a whole number from 1 to 9999", found: value };
  part.problems.add("bad-value", facts, part.path);
  return undefined;
}
