import { type Filter, readFilter } from "./filter.js";
import { attributeOf, type Resource, ScimError } from "./resources.js";
import { type Selection, selectionOf } from "./selection.js";

/** What is asked for, in the address or in the body of a search (RFC 7644, 3.4.2 and 3.4.3). */
export interface Query {
  readonly filter: Filter | undefined;
  readonly selection: Selection;
  /** The number of the first resource of the page, from 1. */
  readonly first: number;
  readonly count: number | undefined;
}

/** What an address asks for. */
export function queryOf(asked: URLSearchParams): Query {
  const names = (name: string) => (asked.has(name) ? (asked.get(name) ?? "").split(",").filter(Boolean) : undefined);
  const number = (name: string) => (asked.has(name) ? Number(asked.get(name) || Number.NaN) : undefined);
  const filter = asked.get("filter") ?? undefined;
  return checkedQuery(filter, names("attributes"), names("excludedAttributes"), number("startIndex"), number("count"));
}

/** What the body of a search asks for. */
export function searchOf(body: Resource): Query {
  const of = (name: string) => attributeOf(body, name) ?? undefined;
  return checkedQuery(of("filter"), of("attributes"), of("excludedAttributes"), of("startIndex"), of("count"));
}

function checkedQuery(filter: unknown, wanted: unknown, without: unknown, first: unknown, count: unknown): Query {
  if (filter !== undefined && typeof filter !== "string")
    throw new ScimError(400, "a filter is a text", "invalidFilter");
  return {
    filter: filter === undefined ? undefined : readFilter(filter),
    selection: selectionOf(listOfNames(wanted), listOfNames(without)),
    first: Math.max(1, wholeNumber("startIndex", first) ?? 1),
    count: wholeNumber("count", count),
  };
}

function listOfNames(given: unknown): readonly string[] | undefined {
  if (given === undefined) return undefined;
  if (Array.isArray(given) && given.every((name) => typeof name === "string")) return given;
  throw new ScimError(400, "attributes are a list of names", "invalidValue");
}

function wholeNumber(name: string, value: unknown): number | undefined {
  if (value === undefined || Number.isSafeInteger(value)) return value as number | undefined;
  throw new ScimError(400, `"${name}" must be a whole number`, "invalidValue");
}
