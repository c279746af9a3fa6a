import { limits } from "./limits.js";
import { checkName, type Part, readMapping, readShape, readText, readTexts } from "./reader.js";
import type { Role } from "./schema.js";

/** Words that a rule's `to` uses for other things. */
const takenWords = ["anyone", "signed-in", "owner"];

/** Reads `roles`, closes `include` over itself, and names circles. */
export function declareRoles(part: Part | undefined): Map<string, Role> {
  const declared = new Map<string, { note: string | undefined; include: { name: string; part: Part }[] }>();
  if (part === undefined) return new Map();
  const entries = readMapping(part, "roles");
  if (entries.size > limits.roles) part.problems.add("too-large", { what: "roles", limit: limits.roles }, part.path);

  for (const [name, entry] of entries) {
    if (!checkName(entry, "a role", name)) continue;
    if (takenWords.includes(name) || /\s/.test(name)) {
      const rule = /\s/.test(name) ? "a role's name has no spaces" : "the word has a meaning of its own in a rule";
      part.problems.add("bad-name", { what: "a role", name, rule }, entry.path);
      continue;
    }
    const shape = readShape(entry, `role "${name}"`, ["include", "note"]);
    const include = readTexts(shape.get("include"), `include of role "${name}"`).map((item) => ({
      name: item.value as string,
      part: item,
    }));
    declared.set(name, { note: readText(shape.get("note"), "note"), include });
  }

  for (const { include } of declared.values()) {
    for (const item of include) {
      if (!declared.has(item.name)) {
        part.problems.add("unknown-role", { name: item.name, candidates: declared.keys() }, item.part.path);
      }
    }
  }
  reportCircle(part, declared);

  const roles = new Map<string, Role>();
  for (const [name, { note }] of declared) {
    const closure = new Set([name]);
    // A set grows while it is walked, so this reaches everything that is included at any depth.
    for (const held of closure) {
      for (const item of declared.get(held)?.include ?? []) closure.add(item.name);
    }
    roles.set(name, { name, note, closure });
  }
  return roles;
}

/** Names the first circle of includes: depth first with an explicit stack, as chains may be long. */
function reportCircle(part: Part, declared: ReadonlyMap<string, { include: { name: string; part: Part }[] }>): void {
  const done = new Set<string>();
  for (const start of declared.keys()) {
    const trail: { name: string; next: number }[] = [{ name: start, next: 0 }];
    const open = new Set([start]);
    while (trail.length > 0) {
      const top = trail[trail.length - 1] as { name: string; next: number };
      const item = done.has(top.name) ? undefined : declared.get(top.name)?.include[top.next++];
      if (item === undefined) {
        done.add(top.name);
        open.delete(top.name);
        trail.pop();
      } else if (open.has(item.name)) {
        const names = trail.map((step) => step.name);
        part.problems.add(
          "include-circle",
          { names: [...names.slice(names.indexOf(item.name)), item.name] },
          item.part.path,
        );
        return;
      } else {
        open.add(item.name);
        trail.push({ name: item.name, next: 0 });
      }
    }
  }
}
