import { type Attribute, heldBy, isSameAttribute, partIn, readAttribute, sameName } from "./attribute.js";
import { withAttribute, withHeld } from "./mapping.js";
import { isComplex, type Resource, ScimError } from "./resources.js";

/** Which attributes of a resource are answered (RFC 7644, 3.9). */
export interface Selection {
  /** Whether an attribute is answered at all, so that what is left out need not be worked out. */
  has(name: string): boolean;
  of(resource: Resource): Resource;
}

/** How many attributes are named at most: no user has more. */
const mostNames = 200;

/** What is always answered (RFC 7643, 3.1 and 7). */
const always = ["schemas", "id"];

/**
 * @throws ScimError (400, `invalidValue`) for both at once, and for what is not the name of an attribute.
 */
export function selectionOf(wanted: readonly string[] | undefined, without: readonly string[] | undefined): Selection {
  if (wanted !== undefined && without !== undefined) {
    throw new ScimError(400, "give attributes or excludedAttributes, not both", "invalidValue");
  }
  const names = wanted ?? without ?? [];
  if (names.length > mostNames) throw new ScimError(400, `at most ${mostNames} attributes are named`, "invalidValue");
  const named = names.map((name) => readAttribute(name.trim(), "invalidValue"));
  if (wanted !== undefined) {
    return {
      has: (name) => always.includes(name) || named.some((one) => sameName(one.name, name)),
      of: (resource) => onlyOf(resource, named),
    };
  }
  const whole = named.filter(({ part }) => part === undefined);
  return {
    has: (name) => !whole.some((one) => one.extension === undefined && sameName(one.name, name)),
    of: (resource) =>
      named
        .filter(({ name, extension }) => extension !== undefined || !always.includes(name.toLowerCase()))
        .reduce(leftOut, resource),
  };
}

function onlyOf(resource: Resource, named: readonly Attribute[]): Resource {
  let chosen: Resource = Object.fromEntries(always.map((name) => [name, resource[name]]));
  for (const { extension, name, part } of named) {
    const held = heldBy(resource, { extension, name });
    if (held === undefined) continue;
    const parts = named.filter((one) => isSameAttribute(one, { extension, name })).map((one) => one.part);
    const isWhole = part === undefined || parts.includes(undefined);
    const reduced = isWhole ? held : mapped(held, (one) => onlyParts(one, parts as readonly string[]));
    chosen = withHeld(chosen, { extension, name: nameIn(resource, extension, name) }, reduced);
  }
  return chosen;
}

function leftOut(resource: Resource, { extension, name, part }: Attribute): Resource {
  const held = heldBy(resource, { extension, name });
  if (held === undefined) return resource;
  const left =
    part === undefined
      ? undefined
      : mapped(held, (one) => (isComplex(one) ? withAttribute(one, part, undefined) : one));
  return withHeld(resource, { extension, name }, left);
}

function mapped(held: unknown, change: (element: unknown) => unknown): unknown {
  return Array.isArray(held) ? held.map(change) : change(held);
}

function onlyParts(element: unknown, parts: readonly string[]): unknown {
  if (!isComplex(element)) return element;
  return Object.fromEntries(
    Object.entries(element).filter(([name]) =>
      parts.some((part) => sameName(part, name) && partIn(element, part) !== undefined),
    ),
  );
}

/** The name as the resource writes it. */
function nameIn(resource: Resource, extension: string | undefined, name: string): string {
  const owner = extension === undefined ? resource : resource[extension];
  return Object.keys(isComplex(owner) ? owner : {}).find((one) => sameName(one, name)) ?? name;
}
