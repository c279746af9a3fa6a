import { linkDefaults } from "./declare-defaults.js";
import { readRequestType } from "./declare-fields.js";
import { linkOwners } from "./declare-owners.js";
import { declarePeople } from "./declare-people.js";
import { declareRoles } from "./declare-roles.js";
import { declareTables } from "./declare-tables.js";
import { checkName, isMapping, type Part, readMapping, readShape, readText } from "./reader.js";
import type { Schema } from "./schema.js";
import type { FieldType } from "./types/field-type.js";

/** A {@link Schema}, and the parts of the document that are read with it. */
export interface Declared {
  readonly schema: Schema;
  /** By table. */
  readonly rules: ReadonlyMap<string, Part>;
  /** The rules under `"*"`. */
  readonly everyTable: Part | undefined;
  /** Named ranges, by table. */
  readonly ranges: ReadonlyMap<string, Part>;
  readonly groups: Part | undefined;
  readonly screens: Part | undefined;
  /** The fields that are there but could not be read: their own problem is enough, uses of them are no second one. */
  readonly broken: ReadonlyMap<string, ReadonlySet<string>>;
}

/** Reads everything of a document but its rules and groups. Goes on after a problem, so that all are found at once. */
export function declare(part: Part): Declared {
  const { problems } = part;
  const keys = ["portier", "timeZone", "people", "request", "roles", "groups", "screens", "tables"] as const;
  const shape = readShape(part, "a document", keys);
  const version = shape.get("portier");
  if (version?.value !== 1) problems.add("unknown-version", { found: version?.value }, version?.path ?? part.path);

  const { tables, defaults, protections, ...rest } = declareTables(part, shape.get("tables"));
  const groups = shape.get("groups");
  const groupNames = isMapping(groups?.value) ? Object.keys(groups.value) : [];
  const roles = declareRoles(shape.get("roles"), tables, groupNames);
  const { people, kept } = declarePeople(shape.get("people"), tables, roles, groupNames);
  linkOwners(tables, rest.owners, people);
  for (const [table, at] of protections) {
    if (kept === undefined) problems.add("protections-not-kept", { table }, at.path);
  }
  linkDefaults(tables, defaults, people);
  const schema: Schema = {
    tables,
    people,
    request: declareRequest(shape.get("request")),
    roles,
    timeZone: readTimeZone(shape.get("timeZone")),
    kept,
  };
  return { schema, ...rest, groups, screens: shape.get("screens") };
}

function declareRequest(part: Part | undefined): Map<string, FieldType> {
  const request = new Map<string, FieldType>();
  if (part === undefined) return request;
  for (const [name, entry] of readMapping(part, "request")) {
    if (!checkName(entry, "a request value", name)) continue;
    if (name === "now") {
      const rule = "request.now is the time of the session";
      part.problems.add("bad-name", { what: "a request value", name, rule }, entry.path);
      continue;
    }
    const type = readRequestType(entry, name);
    if (type !== undefined) request.set(name, type);
  }
  return request;
}

function readTimeZone(part: Part | undefined): string {
  const name = readText(part, "timeZone");
  if (part === undefined || name === undefined) return "UTC";
  try {
    new Intl.DateTimeFormat("en", { timeZone: name });
    return name;
  } catch {
    part.problems.add("bad-time-zone", { name }, part.path);
    return "UTC";
  }
}
