import { portierError } from "../../schema/problems.js";
import type { Field } from "../../schema/schema.js";
import { elementsOf, heldBy, isSameAttribute, partIn, partOf } from "./attribute.js";
import { definedBy, type Filter, meetsFilter, namesIn } from "./filter.js";
import { type Path, readPath } from "./path.js";
import { isComplex, keyIn, type Resource, ScimError, urns } from "./resources.js";

/** A field of a person, and the attribute that it is provisioned from. */
export interface Mapping {
  readonly field: Field;
  /** As the application declared it: `emails[type eq "work"].value`. */
  readonly text: string;
  readonly path: Path;
  /** Whether the attribute is a list of elements. */
  readonly isMulti: boolean;
}

/** The lists among the attributes of a user (RFC 7643, 4.1.2). */
const lists = ["emails", "phonenumbers", "ims", "photos", "addresses", "entitlements", "roles", "x509certificates"];

/**
 * @throws PortierError (`wrong-call`) for a path that is none, or whose filter does not say outright what an element holds.
 */
export function mappingOf(field: Field, text: string): Mapping {
  const hint = 'write it like "displayName", "name.familyName", "emails[type eq \\"work\\"].value" or "URN:attribute"';
  let path: Path;
  try {
    path = readPath(text);
  } catch (error) {
    if (!(error instanceof ScimError)) throw error;
    throw portierError("wrong-call", { what: `field "${field.name}" cannot be provisioned: ${error.message}`, hint });
  }
  if (path.filter !== undefined && definedBy(path.filter) === undefined) {
    const what = `the filter of "${text}" must say what an element holds, by eq and "and" alone`;
    throw portierError("wrong-call", { what, hint });
  }
  const isList = path.extension === undefined && lists.includes(path.name.toLowerCase());
  return { field, text, path, isMulti: isList || path.filter !== undefined || field.type.element !== undefined };
}

/** Whether a filter means an element; the only one of a list is meant, too, where it says nothing of what is asked. */
export function isMeant(filter: Filter | undefined, element: unknown, count: number): boolean {
  if (filter === undefined || meetsFilter(filter, element)) return true;
  return count === 1 && namesIn(filter).every((name) => name === "value" || partIn(element, name) === undefined);
}

/**
 * What a resource gives for a field, whether it comes as a plain value, as an object with a `value`, or as a list of
 * them; undefined where it gives nothing.
 *
 * @throws ScimError (400, `invalidValue`) for a value of another shape, and for several of which none is the primary one.
 */
export function givenTo({ field, text, path }: Mapping, resource: Resource): unknown {
  const held = heldBy(resource, path);
  if (held === undefined) return undefined;
  const isWhole = field.type.base === "json" && path.filter === undefined && path.part === undefined;
  if (isWhole) return held;
  const all = elementsOf(held);
  const elements = all.filter((element) => isMeant(path.filter, element, all.length));
  const part = partOf(path);
  if (elements.some((element) => !isComplex(element) && part.toLowerCase() !== "value")) {
    throw new ScimError(400, `"${path.name}" must be an object with "${part}"`, "invalidValue");
  }
  const found = elements
    .map((element) => ({ element, value: partIn(element, part) ?? (path.part === undefined ? element : undefined) }))
    .filter(({ value }) => value !== undefined && value !== null);
  if (field.type.element !== undefined) return found.length === 0 ? undefined : found.map(({ value }) => value);
  const primary = found.find(({ element }) => partIn(element, "primary") === true);
  const chosen = found.length > 1 ? primary : found[0];
  if (chosen !== undefined || found.length === 0) return chosen?.value;
  const why = `"${text}" has ${found.length} values, and none of them is primary`;
  throw new ScimError(400, why, "invalidValue");
}

/** The resource with a field's value under its attribute. */
export function withShown(resource: Resource, mapping: Mapping, value: unknown): Resource {
  const { field, path } = mapping;
  const old = heldBy(resource, path);
  if (field.type.element !== undefined) {
    const elements = (value as readonly unknown[]).map((one) => ({ value: one }));
    return withHeld(resource, path, mapping.path.extension === undefined ? elements : value);
  }
  if (mapping.isMulti) {
    const defined = path.filter === undefined ? {} : (definedBy(path.filter) ?? {});
    const all = elementsOf(old);
    const isSame = (element: unknown) => path.filter !== undefined && meetsFilter(path.filter, element);
    const element = { ...defined, ...(all.find(isSame) as Resource | undefined), [partOf(path)]: value };
    return withHeld(resource, path, [...all.filter((one) => !isSame(one)), element]);
  }
  if (path.part === undefined && !isManager(path)) return withHeld(resource, path, value);
  return withHeld(resource, path, { ...(isComplex(old) ? old : {}), [partOf(path)]: value });
}

const enterpriseManager = { extension: urns.enterprise, name: "manager" };

/** The one attribute of the standard's extension that is an object with a `value` (RFC 7643, 4.3). */
export function isManager(path: Path): boolean {
  return isSameAttribute(path, enterpriseManager);
}

/** The names are others' to choose, so each is a property of its own, whatever it is called. */
export function withHeld(
  resource: Resource,
  { extension, name }: Pick<Path, "extension" | "name">,
  value: unknown,
): Resource {
  if (extension === undefined) return withAttribute(resource, name, value);
  const key = keyIn(resource, extension);
  const inner = key === undefined ? {} : resource[key];
  return withAttribute(resource, extension, withAttribute(isComplex(inner) ? inner : {}, name, value));
}

export function withAttribute(resource: Resource, name: string, value: unknown): Resource {
  const key = keyIn(resource, name) ?? name;
  const entries = Object.entries(resource).filter(([one]) => one !== key);
  return Object.fromEntries(value === undefined ? entries : [...entries, [key, value]]);
}
