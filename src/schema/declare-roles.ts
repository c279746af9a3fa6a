import { reportCircle } from "./circles.js";
import { limits } from "./limits.js";
import { checkName, type Part, readMapping, readShape, readText, readTexts } from "./reader.js";
import type { Role } from "./schema.js";

/** Words that a rule's `to` uses for other things. */
const takenWords = ["anyone", "signed-in", "owner"];

interface DeclaredRole {
  readonly note: string | undefined;
  readonly scope: { readonly name: string; readonly part: Part } | undefined;
  readonly include: readonly { readonly name: string; readonly part: Part }[];
}

/** Reads `roles`, closes `include` over itself, and names circles. `tables` are the tables that a scope may name. */
export function declareRoles(part: Part | undefined, tables: ReadonlyMap<string, unknown>): Map<string, Role> {
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

  const roles = new Map<string, Role>();
  for (const [name, { note, scope }] of declared) {
    const closure = new Set([name]);
    // A set grows while it is walked, so this reaches everything that is included at any depth.
    for (const held of closure) {
      for (const item of declared.get(held)?.include ?? []) closure.add(item.name);
    }
    roles.set(name, { name, note, scope: scope?.name, closure });
  }
  return roles;
}

function declareRole(part: Part, name: string): DeclaredRole {
  const shape = readShape(part, `role "${name}"`, ["include", "scope", "note"]);
  const include = readTexts(shape.get("include"), `include of role "${name}"`).map((item) => ({
    name: item.value as string,
    part: item,
  }));
  const scopePart = shape.get("scope");
  const scope = readText(scopePart, `scope of role "${name}"`);
  return {
    note: readText(shape.get("note"), "note"),
    scope: scopePart === undefined || scope === undefined ? undefined : { name: scope, part: scopePart },
    include,
  };
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
