import { attributeOf, isComplex, type Resource, ScimError, type ScimType, urns } from "./resources.js";

/** An attribute as a client names it (RFC 7644, 3.10): `userName`, `name.givenName`, or with the URN of its schema before it. */
export interface Attribute {
  /** The URN of an extension; undefined for the core schema. */
  readonly extension: string | undefined;
  readonly name: string;
  /** The part of a complex attribute. */
  readonly part: string | undefined;
}

const coreUrns = [urns.user, urns.group].map((urn) => urn.toLowerCase());
const shape = /^(?:(urn:.+):)?([A-Za-z$][\w$-]*)(?:\.([A-Za-z$][\w$-]*))?$/i;

/**
 * Reads an attribute's name. The last colon ends the URN, which may have dots of its own: `urn:example:2.0:Badge:number`.
 *
 * @throws ScimError (400, `problem`) for what is none.
 */
export function readAttribute(text: string, problem: ScimType): Attribute {
  const found = shape.exec(text);
  if (found === null) throw new ScimError(400, `"${text}" is not the name of an attribute`, problem);
  const [, urn, name = "", part] = found;
  const extension = urn === undefined || coreUrns.includes(urn.toLowerCase()) ? undefined : urn;
  return { extension, name, part };
}

/** Whether two names are of the same attribute; names are the same in any case (RFC 7643, 2.1). */
export function isSameAttribute(a: Omit<Attribute, "part">, b: Omit<Attribute, "part">): boolean {
  return sameName(a.name, b.name) && sameName(a.extension, b.extension);
}

export function sameName(a: string | undefined, b: string | undefined): boolean {
  return a?.toLowerCase() === b?.toLowerCase();
}

/** The part that a name means when it says none: of a complex attribute, its value. */
export function partOf({ part }: Pick<Attribute, "part">): string {
  return part ?? "value";
}

/** What a resource holds under an attribute, one element or a list of them; undefined where there is none. */
export function heldBy(resource: Resource, { extension, name }: Omit<Attribute, "part">): unknown {
  const owner = extension === undefined ? resource : attributeOf(resource, extension);
  return attributeOf(owner, name) ?? undefined;
}

export function elementsOf(held: unknown): readonly unknown[] {
  if (held === undefined || held === null) return [];
  return Array.isArray(held) ? held : [held];
}

/** A part of one element. What is written as a plain value is the value of it. */
export function partIn(element: unknown, part: string): unknown {
  if (isComplex(element)) return attributeOf(element, part);
  return part.toLowerCase() === "value" ? element : undefined;
}
