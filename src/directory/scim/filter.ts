import { type Attribute, elementsOf, heldBy, partIn, readAttribute } from "./attribute.js";
import { isComplex, type Resource, ScimError, type ScimType } from "./resources.js";

type Operator = "eq" | "ne" | "co" | "sw" | "ew" | "gt" | "ge" | "lt" | "le";
type Literal = string | number | boolean | null;

/** A filter (RFC 7644, 3.4.2.2). */
export type Filter =
  | { readonly kind: "and" | "or"; readonly filters: readonly Filter[] }
  | { readonly kind: "not"; readonly filter: Filter }
  | { readonly kind: "present"; readonly attribute: Attribute }
  | {
      readonly kind: "compare";
      readonly attribute: Attribute;
      readonly operator: Operator;
      readonly value: Literal;
    }
  /** `emails[type eq "work"]`: some element meets the filter. */
  | { readonly kind: "some"; readonly attribute: Attribute; readonly filter: Filter };

/** A filter has so many characters at most: nobody types more, and none goes deeper than it is long. */
const longest = 2_000;
const token = /\s*(?:([()[\]])|("(?:[^"\\]|\\.)*")|([^\s()[\]"]+))/y;

/**
 * Reads a filter with `eq ne co sw ew gt ge lt le pr`, `and or not`, brackets and element filters.
 *
 * @throws ScimError (400, `problem`) for what is none.
 */
export function readFilter(text: string, problem: ScimType = "invalidFilter"): Filter {
  const fail = (why: string): never => {
    throw new ScimError(400, `the filter ${JSON.stringify(text.slice(0, 200))} cannot be read: ${why}`, problem);
  };
  if (text.length > longest) fail(`it has more than ${longest} characters`);
  const words = wordsOf(text) ?? fail("there is a sign that means nothing");
  let at = 0;
  const next = () => words[at]?.toLowerCase();
  const isTaken = (word: string) => {
    if (next() !== word) return false;
    at += 1;
    return true;
  };
  const must = (word: string) => isTaken(word) || fail(`"${word}" is missing`);

  const many = (kind: "and" | "or", one: () => Filter): Filter => {
    const filters = [one()];
    while (isTaken(kind)) filters.push(one());
    return filters.length === 1 ? (filters[0] as Filter) : { kind, filters };
  };
  const anyOf = (): Filter => many("or", () => many("and", term));
  const term = (): Filter => {
    if (isTaken("not")) {
      must("(");
      return { kind: "not", filter: closed(")") };
    }
    if (isTaken("(")) return closed(")");
    const name = words[at++] ?? fail("it ends too early");
    const attribute = readAttribute(name, problem);
    if (isTaken("[")) return { kind: "some", attribute, filter: closed("]") };
    const operator = words[at++]?.toLowerCase() ?? fail(`nothing is asked about ${name}`);
    if (operator === "pr") return { kind: "present", attribute };
    if (!isOperator(operator)) return fail(`there is no operator "${operator}"`);
    const value = literalOf(words[at++]);
    if (value === undefined) return fail(`"${operator}" needs a value: "a text", a number, true, false or null`);
    const isOrdered = typeof value === "string" || typeof value === "number";
    if (!isOrdered && operator !== "eq" && operator !== "ne") fail(`"${operator}" has no meaning for ${value}`);
    return { kind: "compare", attribute, operator, value };
  };
  const closed = (end: string): Filter => {
    const filter = anyOf();
    must(end);
    return filter;
  };

  const filter = anyOf();
  if (at < words.length) fail(`"${words[at]}" comes after its end`);
  return filter;
}

function wordsOf(text: string): string[] | undefined {
  const words: string[] = [];
  token.lastIndex = 0;
  while (token.lastIndex < text.trimEnd().length) {
    const found = token.exec(text);
    if (found === null) return undefined;
    words.push(found[1] ?? found[2] ?? found[3] ?? "");
  }
  return words;
}

function isOperator(text: string): text is Operator {
  return ["eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"].includes(text);
}

function literalOf(text: string | undefined): Literal | undefined {
  try {
    const value: unknown = JSON.parse(text?.startsWith('"') ? text : (text ?? "").toLowerCase());
    return typeof value === "object" && value !== null ? undefined : (value as Literal);
  } catch {
    return undefined;
  }
}

/** Whether a resource, or one element of a list, meets a filter. */
export function meetsFilter(filter: Filter, resource: unknown): boolean {
  switch (filter.kind) {
    case "and":
      return filter.filters.every((one) => meetsFilter(one, resource));
    case "or":
      return filter.filters.some((one) => meetsFilter(one, resource));
    case "not":
      return !meetsFilter(filter.filter, resource);
    case "present":
      return valuesOf(filter.attribute, resource).length > 0;
    case "some":
      return elementsOf(heldIn(resource, filter.attribute)).some((one) => meetsFilter(filter.filter, one));
    case "compare": {
      const found = valuesOf(filter.attribute, resource);
      const { operator, value, attribute } = filter;
      if (value === null) return (found.length === 0) === (operator === "eq");
      if (operator === "ne") return !found.some((one) => compares("eq", one, value, attribute));
      return found.some((one) => compares(operator, one, value, attribute));
    }
    default:
      return filter satisfies never;
  }
}

function heldIn(resource: unknown, attribute: Attribute): unknown {
  return isComplex(resource) ? heldBy(resource, attribute) : partIn(resource, attribute.name);
}

/** The values that there are under a name: of a complex attribute without a part, its `value`. */
function valuesOf(attribute: Attribute, resource: unknown): readonly unknown[] {
  return elementsOf(heldIn(resource, attribute))
    .map((element) =>
      attribute.part === undefined ? (partIn(element, "value") ?? element) : partIn(element, attribute.part),
    )
    .filter((value) => value !== undefined && value !== null && value !== "");
}

function compares(operator: Operator, found: unknown, value: Literal, attribute: Attribute): boolean {
  if (typeof found === "number" && typeof value === "number") return ordered(operator, found, value);
  if (typeof found !== "string" || typeof value !== "string") return operator === "eq" && found === value;
  const [one, other] = isExact(attribute) ? [found, value] : [found.toLowerCase(), value.toLowerCase()];
  if (operator === "co") return one.includes(other);
  if (operator === "sw") return one.startsWith(other);
  if (operator === "ew") return one.endsWith(other);
  return ordered(operator, one, other);
}

function ordered<V extends string | number>(operator: Operator, one: V, other: V): boolean {
  switch (operator) {
    case "eq":
      return one === other;
    case "gt":
      return one > other;
    case "ge":
      return one >= other;
    case "lt":
      return one < other;
    case "le":
      return one <= other;
    default:
      return false;
  }
}

/** Texts are the same in any case (RFC 7643, 2.3.1), but for what identifies something. */
export function isExact({ name, part }: Pick<Attribute, "name" | "part">): boolean {
  if (["id", "externalid", "meta", "value"].includes(name.toLowerCase())) return true;
  return ["members", "groups", "manager"].includes(name.toLowerCase()) && (part ?? "value").toLowerCase() === "value";
}

/** What an element must hold to meet a filter that says it outright (`type eq "work"`); undefined for any other filter. */
export function definedBy(filter: Filter): Resource | undefined {
  if (filter.kind === "and") {
    const parts = filter.filters.map(definedBy);
    return parts.every((part) => part !== undefined) ? Object.assign({}, ...parts) : undefined;
  }
  if (filter.kind !== "compare" || filter.operator !== "eq" || filter.value === null) return undefined;
  const { extension, name, part } = filter.attribute;
  return extension === undefined && part === undefined ? { [name]: filter.value } : undefined;
}

/** The names that a filter asks about. */
export function namesIn(filter: Filter): readonly string[] {
  switch (filter.kind) {
    case "and":
    case "or":
      return filter.filters.flatMap(namesIn);
    case "not":
      return namesIn(filter.filter);
    default:
      return [filter.attribute.name];
  }
}
