import { reportCircle } from "./circles.js";
import { limits } from "./limits.js";
import { checkName, type Part, readIgnore, readMapping, readShape, readText, readTexts } from "./reader.js";
import type { Assigner, IgnoredWarnings, Role } from "./schema.js";

/** Words that a rule's `to` uses for other things. */
const takenWords = ["anyone", "signed-in", "owner"];

interface Named {
  readonly name: string;
  readonly part: Part;
}

interface DeclaredRole {
  readonly part: Part;
  readonly note: string | undefined;
  readonly scope: Named | undefined;
  readonly include: readonly Named[];
  readonly exclusive: readonly Named[];
  readonly minHolders: number;
  readonly assignableBy: readonly Named[];
  readonly ignore: IgnoredWarnings;
}

type Declared = ReadonlyMap<string, DeclaredRole>;

/**
 * Reads `roles`, closes `include` over itself, and names circles. `tables` are the tables that a scope may name, `groups`
 * the names that may assign a role besides.
 */
export function declareRoles(
  part: Part | undefined,
  tables: ReadonlyMap<string, unknown>,
  groups: readonly string[],
): Map<string, Role> {
  const declared = new Map<string, DeclaredRole>();
  if (part === undefined) return new Map();
  const { problems } = part;
  const entries = readMapping(part, "roles");
  if (entries.size > limits.roles) problems.add("too-large", { what: "roles", limit: limits.roles }, part.path);
  for (const [name, entry] of entries) {
    if (checkWhoName(entry, "a role", name)) declared.set(name, declareRole(entry, name));
  }

  for (const { include, scope } of declared.values()) {
    if (scope !== undefined && !tables.has(scope.name)) {
      problems.add("unknown-table", { name: scope.name, candidates: tables.keys() }, scope.part.path);
    }
    for (const item of include) {
      const included = declared.get(item.name);
      if (included === undefined) {
        problems.add("unknown-role", { name: item.name, candidates: declared.keys() }, item.part.path);
      } else if (included.scope?.name !== scope?.name) {
        problems.add("include-across-scopes", { role: item.name, scope: included.scope?.name }, item.part.path);
      }
    }
  }
  reportCircle(declared.keys(), (name) => declared.get(name)?.include ?? [], problems, "roles");

  const exclusive = readExclusive(declared);
  const roles = new Map<string, Role>();
  for (const [name, { note, scope, minHolders, assignableBy, ignore }] of declared) {
    const closure = new Set([name]);
    // A set grows while it is walked, so this reaches everything that is included at any depth.
    for (const held of closure) {
      for (const item of declared.get(held)?.include ?? []) closure.add(item.name);
    }
    const assigners = assignableBy.map((assigner) => readAssigner(assigner, scope?.name, declared, groups));
    roles.set(name, {
      name,
      note,
      scope: scope?.name,
      closure,
      exclusive: exclusive.get(name) ?? new Set(),
      minHolders,
      assignableBy: assigners.filter((assigner) => assigner !== undefined),
      ignore,
    });
  }
  for (const [name, { part: place }] of declared) reportExclusive(`role "${name}"`, [name], roles, place);
  return roles;
}

/** Who excludes whom, both ways. */
function readExclusive(declared: Declared): Map<string, Set<string>> {
  const exclusive = new Map([...declared.keys()].map((name) => [name, new Set<string>()]));
  for (const [name, role] of declared) {
    for (const { name: other, part } of role.exclusive) {
      if (!declared.has(other)) {
        part.problems.add("unknown-role", { name: other, candidates: declared.keys() }, part.path);
      } else if (other === name)
        part.problems.add("exclusive-roles", { what: `role "${name}"`, roles: [name] }, part.path);
      exclusive.get(name)?.add(other);
      exclusive.get(other)?.add(name);
    }
  }
  return exclusive;
}

/** Nobody could be given what brings two roles that exclude each other. */
export function reportExclusive(
  what: string,
  brings: readonly string[],
  roles: ReadonlyMap<string, Role>,
  part: Part,
): void {
  const held = new Set(brings.flatMap((name) => [...(roles.get(name)?.closure ?? [])]));
  for (const one of held) {
    const other = [...(roles.get(one)?.exclusive ?? [])].find((name) => name !== one && held.has(name));
    if (other === undefined) continue;
    part.problems.add("exclusive-roles", { what, roles: [one, other] }, part.path);
    return;
  }
}

function readAssigner(
  { name, part }: Named,
  scope: string | undefined,
  declared: Declared,
  groups: readonly string[],
): Assigner | undefined {
  const ofThis = /^(\S+)\s+of\s+this$/.exec(name)?.[1];
  const wanted = ofThis ?? name;
  const role = declared.get(wanted);
  if (role === undefined && (ofThis !== undefined || !groups.includes(wanted))) {
    const candidates = [...declared.keys(), ...(ofThis === undefined ? groups : [])];
    part.problems.add("unknown-who", { name: wanted, candidates }, part.path);
  } else if (ofThis === undefined) {
    if (role?.scope === undefined) return { name: wanted, ofThis: false };
    part.problems.add("scoped-role", { role: wanted, scope: role.scope.name }, part.path);
  } else if (role?.scope === undefined) part.problems.add("unscoped-role", { role: wanted }, part.path);
  else if (role.scope.name === scope) return { name: wanted, ofThis: true };
  else part.problems.add("include-across-scopes", { role: wanted, scope: role.scope.name }, part.path);
  return undefined;
}

function declareRole(part: Part, name: string): DeclaredRole {
  const keys = ["include", "scope", "exclusive", "minHolders", "assignableBy", "note", "ignore"] as const;
  const shape = readShape(part, `role "${name}"`, keys);
  const named = (key: "include" | "exclusive" | "assignableBy") =>
    readTexts(shape.get(key), `${key} of role "${name}"`).map(
      (item): Named => ({ name: item.value as string, part: item }),
    );
  const scopePart = shape.get("scope");
  const scope = readText(scopePart, `scope of role "${name}"`);
  return {
    part,
    note: readText(shape.get("note"), "note"),
    scope: scopePart === undefined || scope === undefined ? undefined : { name: scope, part: scopePart },
    include: named("include"),
    exclusive: named("exclusive"),
    minHolders: readCount(shape.get("minHolders"), `minHolders of role "${name}"`),
    assignableBy: named("assignableBy"),
    ignore: readIgnore(shape.get("ignore")),
  };
}

function readCount(part: Part | undefined, what: string): number {
  if (part === undefined) return 0;
  const { value } = part;
  if (typeof value === "number" && Number.isInteger(value) && value >= 0 && value <= 1_000) return value;
  part.problems.add("wrong-shape", { what, expected: "a whole number from 0 to 1000", found: value }, part.path);
  return 0;
}

/** Checks a role's or group's name: a rule's `to` must be able to name it. */
export function checkWhoName(part: Part, what: string, name: string): boolean {
  if (!checkName(part, what, name)) return false;
  const taken = takenWords.includes(name);
  if (!taken && !/\s/.test(name)) return true;
  const rule = taken ? "the word has a meaning of its own in a rule" : "such a name has no spaces";
  part.problems.add("bad-name", { what, name, rule }, part.path);
  return false;
}
