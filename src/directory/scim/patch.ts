import { attributeOf, keyIn, pathSteps, type Resource, ScimError } from "./resources.js";

const operations = ["add", "replace", "remove"] as const;

/**
 * A resource after a PATCH (RFC 7644, 3.5.2). A path names an attribute, one of its parts, or by a filter the elements of a
 * list: `members[value eq "s-003"]`. All operations are done or none.
 *
 * @throws ScimError (400) for what is no operation, and for a path that leads nowhere.
 */
export function patched(resource: Resource, body: Resource): Resource {
  const list = attributeOf(body, "Operations");
  if (!Array.isArray(list) || list.length === 0) throw new ScimError(400, "PATCH needs Operations", "invalidSyntax");
  let result: Resource = structuredClone(resource);
  for (const one of list) result = applied(result, one);
  return result;
}

function applied(resource: Resource, operation: unknown): Resource {
  const given = String(attributeOf(operation, "op")).toLowerCase();
  const op = operations.find((one) => one === given);
  if (op === undefined) throw new ScimError(400, `there is no operation "${given}"`, "invalidSyntax");
  const path = attributeOf(operation, "path");
  const value = attributeOf(operation, "value");
  if (path === undefined || path === null || path === "") {
    if (op === "remove") throw new ScimError(400, "remove needs a path", "noTarget");
    if (typeof value !== "object" || value === null || Array.isArray(value)) {
      throw new ScimError(400, `${op} without a path needs attributes`, "invalidValue");
    }
    return Object.entries(value).reduce((all, [name, one]) => changed(all, pathSteps(name), op, one), resource);
  }
  if (typeof path !== "string") throw new ScimError(400, "a path is a text", "invalidPath");
  const filtered = /^([\w$-]+)\[\s*([\w$-]+)\s+eq\s+("(?:[^"\\]|\\.)*"|true|false)\s*\]$/i.exec(path);
  if (filtered === null) return changed(resource, checkedSteps(path), op, value);
  const [, name = "", part = "", literal = ""] = filtered;
  const wanted = literalValue(literal);
  const elements = attributeOf(resource, name);
  const isMeant = (one: unknown) => attributeOf(one, part) === wanted;
  if (!Array.isArray(elements) || !elements.some(isMeant)) {
    // Whoever takes away what is not there has what they want.
    if (op === "remove") return resource;
    throw new ScimError(400, `"${path}" leads nowhere`, "noTarget");
  }
  const kept =
    op === "remove"
      ? elements.filter((one) => !isMeant(one))
      : elements.map((one) => (isMeant(one) ? { ...(one as Resource), ...(value as Resource) } : one));
  return { ...resource, [keyIn(resource, name) ?? name]: kept };
}

function checkedSteps(path: string): string[] {
  const steps = pathSteps(path);
  const isName = (step: string) => /^(?:urn:[\w.:-]+|[\w$-]+)$/.test(step);
  if (!steps.every(isName)) throw new ScimError(400, `"${path}" is no path that this service knows`, "invalidPath");
  return steps;
}

function literalValue(literal: string): unknown {
  try {
    return JSON.parse(literal.startsWith('"') ? literal : literal.toLowerCase());
  } catch {
    throw new ScimError(400, `${literal} is no value`, "invalidPath");
  }
}

function changed(
  resource: Resource,
  steps: readonly string[],
  op: (typeof operations)[number],
  value: unknown,
): Resource {
  const [name = "", ...rest] = steps;
  const key = keyIn(resource, name) ?? name;
  const old = Object.hasOwn(resource, key) ? resource[key] : undefined;
  if (rest.length > 0) {
    const inner = typeof old === "object" && old !== null && !Array.isArray(old) ? (old as Resource) : {};
    return withAttribute(resource, key, changed(inner, rest, op, value));
  }
  if (op === "remove") {
    // Some take elements away by naming them beside the path.
    const gone = Array.isArray(value) ? value.map((one) => attributeOf(one, "value")) : undefined;
    const left =
      gone === undefined || !Array.isArray(old)
        ? undefined
        : old.filter((one) => !gone.includes(attributeOf(one, "value")));
    return withAttribute(resource, key, left);
  }
  if (op === "add" && Array.isArray(old)) {
    const more = Array.isArray(value) ? value : [value];
    const known = new Set(old.map((one) => attributeOf(one, "value")));
    return withAttribute(resource, key, [...old, ...more.filter((one) => !known.has(attributeOf(one, "value")))]);
  }
  return withAttribute(resource, key, value);
}

/** The names are others' to choose, so each is a property of its own, whatever it is called. */
function withAttribute(resource: Resource, key: string, value: unknown): Resource {
  const entries = Object.entries(resource).filter(([name]) => name !== key);
  return Object.fromEntries(value === undefined ? entries : [...entries, [key, value]]);
}
