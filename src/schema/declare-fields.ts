import { labelFromName } from "./label.js";
import { limits } from "./limits.js";
import {
  checkName,
  isMapping,
  type Part,
  readFlag,
  readLabel,
  readMapping,
  readShape,
  readText,
  readTexts,
} from "./reader.js";
import type { Field } from "./schema.js";
import { choice } from "./types/choice.js";
import { type FieldType, fieldTypeNames } from "./types/field-type.js";
import { json } from "./types/json.js";
import { list } from "./types/list.js";
import { isScalarTypeName, scalarTypes } from "./types/scalars.js";
import { timestampInUtc } from "./types/timestamp.js";

/** A reference as declared, before the table that it leads to is looked at. */
export interface DeclaredReference {
  readonly kind: "reference";
  readonly table: string;
  readonly part: Part;
  /** The fields that make it up, for a table with a key of several. */
  readonly by: readonly Part[] | undefined;
}

/** What a field holds, as far as it can be told without looking at other fields and tables. */
export type DeclaredType =
  | { readonly kind: "known"; readonly type: FieldType }
  | DeclaredReference
  | { readonly kind: "list"; readonly element: DeclaredReference }
  | { readonly kind: "lookup"; readonly through: Part; readonly field: Part };

export interface DeclaredField {
  readonly part: Part;
  readonly name: string;
  readonly type: DeclaredType;
  readonly flags: Pick<
    Field,
    "optional" | "sensitive" | "computed" | "generated" | "tags" | "column" | "label" | "note"
  >;
  readonly default: Part | undefined;
}

const longKeys = [
  "type",
  "choice",
  "reference",
  "by",
  "list",
  "lookup",
  "zone",
  "optional",
  "sensitive",
  "computed",
  "generated",
  "tags",
  "default",
  "column",
  "label",
  "note",
] as const;

type Shape = ReadonlyMap<(typeof longKeys)[number], Part>;

/** Words that an extent uses for other things. */
function checkFieldName(part: Part, name: string): boolean {
  if (!checkName(part, "a field", name)) return false;
  const taken =
    name === "all" || name === "yes" || name.startsWith("-") || name.startsWith("tag ") || name.includes("..");
  if (taken) part.problems.add("bad-name", { what: "a field", name, rule: "an extent could not name it" }, part.path);
  return !taken;
}

export function declareFields(part: Part | undefined, table: string): Map<string, DeclaredField> {
  const fields = new Map<string, DeclaredField>();
  if (part === undefined) return fields;
  const entries = readMapping(part, `fields of "${table}"`);
  if (entries.size > limits.fieldsOfATable) {
    part.problems.add("too-large", { what: `fields of "${table}"`, limit: limits.fieldsOfATable }, part.path);
  }
  for (const [name, entry] of entries) {
    if (!checkFieldName(entry, name)) continue;
    const field = declareField(entry, name);
    if (field !== undefined) fields.set(name, field);
  }
  return fields;
}

function declareField(part: Part, name: string): DeclaredField | undefined {
  if (typeof part.value === "string") {
    const type = readNamedType(part, part.value);
    const flags = {
      optional: false,
      sensitive: false,
      computed: false,
      generated: false,
      tags: new Set<string>(),
      column: name,
      label: labelFromName(name),
      note: undefined,
    };
    return type && { part, name, type: { kind: "known", type }, flags, default: undefined };
  }
  if (!isMapping(part.value)) {
    const expected = "a type's name or a mapping";
    part.problems.add("wrong-shape", { what: `field "${name}"`, expected, found: part.value }, part.path);
    return undefined;
  }
  const shape = readShape(part, `field "${name}"`, longKeys);
  const type = readLongType(part, shape, name);
  const isMade = type?.kind === "lookup" || (type?.kind === "reference" && type.by !== undefined);
  const flags = {
    optional: readFlag(shape.get("optional"), "optional"),
    sensitive: readFlag(shape.get("sensitive"), "sensitive"),
    computed: readFlag(shape.get("computed"), "computed") || isMade,
    generated: readFlag(shape.get("generated"), "generated"),
    tags: new Set(readTexts(shape.get("tags"), `tags of "${name}"`).map((tag) => tag.value as string)),
    column: readText(shape.get("column"), `column of "${name}"`) ?? name,
    label: readLabel(shape.get("label"), name),
    note: readText(shape.get("note"), "note"),
  };
  return type && { part, name, type, flags, default: shape.get("default") };
}

/** The keys that imply a type, each with its reader. */
const impliedKeys = ["choice", "reference", "list", "lookup"] as const;

const implied: Readonly<
  Record<(typeof impliedKeys)[number], (part: Part, name: string, shape: Shape) => DeclaredType | undefined>
> = {
  choice: (part, name) => {
    const type = readChoice(part, name);
    return type && { kind: "known", type };
  },
  reference: (part, name, shape) => readReference(part, name, shape.get("by")),
  list: readList,
  lookup: readLookup,
};

function readLongType(part: Part, shape: Shape, name: string): DeclaredType | undefined {
  const named = shape.get("type");
  const typeName = readText(named, `type of "${name}"`);
  const found = impliedKeys.filter((key) => shape.has(key));
  const [key, second] = found;
  if (second !== undefined) {
    part.problems.add("ambiguous-type", { name, found }, part.path);
    return undefined;
  }
  const zone = shape.get("zone");
  if (zone !== undefined && (key !== undefined || typeName !== "timestamp" || zone.value !== "UTC")) {
    const expected = '"UTC", with "type: timestamp"';
    zone.problems.add("wrong-shape", { what: "zone", expected, found: zone.value }, zone.path);
  }
  const by = shape.get("by");
  if (by !== undefined && key !== "reference") {
    by.problems.add("wrong-shape", { what: "by", expected: 'given with "reference"', found: by.value }, by.path);
  }
  if (key !== undefined) {
    // Saying the implied type as well is fine, saying another is not.
    if (named !== undefined && typeName !== undefined && typeName !== key) {
      named.problems.add("wrong-shape", { what: "type", expected: `"${key}" here`, found: typeName }, named.path);
    }
    return implied[key](shape.get(key) as Part, name, shape);
  }
  if (named === undefined) part.problems.add("untyped-field", { name }, part.path);
  const type = named && typeName !== undefined ? readNamedType(named, typeName) : undefined;
  return type && { kind: "known", type: zone !== undefined && type.base === "timestamp" ? timestampInUtc : type };
}

function readReference(part: Part, name: string, by: Part | undefined): DeclaredReference | undefined {
  const table = readText(part, `reference of "${name}"`);
  if (table === undefined) return undefined;
  return { kind: "reference", table, part, by: by && readTexts(by, `by of "${name}"`) };
}

function readList(part: Part, name: string): DeclaredType | undefined {
  if (isMapping(part.value)) {
    const shape = readShape(part, `list of "${name}"`, ["reference", "choice"]);
    const target = shape.get("reference");
    const choices = shape.get("choice");
    if (target !== undefined && choices !== undefined) {
      part.problems.add("ambiguous-type", { name: `list of "${name}"`, found: ["choice", "reference"] }, part.path);
    } else if (choices !== undefined) {
      const type = readChoice(choices, name);
      return type && { kind: "known", type: list(type) };
    } else if (target === undefined) {
      part.problems.add("missing-key", { what: `list of "${name}"`, key: "reference" }, part.path);
    }
    const element = target && readReference(target, name, undefined);
    return element && { kind: "list", element };
  }
  const typeName = readText(part, `list of "${name}"`);
  if (typeName === undefined) return undefined;
  if (isScalarTypeName(typeName)) return { kind: "known", type: list(scalarTypes[typeName]) };
  part.problems.add("unknown-type", { name: typeName, candidates: Object.keys(scalarTypes) }, part.path);
  return undefined;
}

function readLookup(part: Part, name: string): DeclaredType | undefined {
  const what = `lookup of "${name}"`;
  const shape = readShape(part, what, ["through", "field"]);
  const through = shape.get("through");
  const field = shape.get("field");
  for (const key of ["through", "field"] as const) {
    if (!shape.has(key)) part.problems.add("missing-key", { what, key }, part.path);
    readText(shape.get(key), `${key} of "${name}"`);
  }
  const isText = typeof through?.value === "string" && typeof field?.value === "string";
  return isText && through !== undefined && field !== undefined ? { kind: "lookup", through, field } : undefined;
}

function readChoice(part: Part, name: string): FieldType | undefined {
  const values = readTexts(part, `choice of "${name}"`).map((item) => item.value as string);
  if (!Array.isArray(part.value) || values.length !== part.value.length) return undefined;
  if (values.length === 0 || values.length > limits.choices) {
    const expected = `a list of 1 to ${limits.choices} values`;
    part.problems.add("wrong-shape", { what: `choice of "${name}"`, expected, found: part.value }, part.path);
    return undefined;
  }
  const twice = values.find((value, index) => values.indexOf(value) !== index);
  if (twice !== undefined) part.problems.add("duplicate-name", { what: "the choice", name: twice }, part.path);
  return choice(values);
}

function readNamedType(part: Part, name: string): FieldType | undefined {
  if (isScalarTypeName(name)) return scalarTypes[name];
  if (name === "json") return json;
  if (Object.hasOwn(implied, name)) {
    part.problems.add("missing-key", { what: `a field of type ${name}`, key: name }, part.path);
    return undefined;
  }
  part.problems.add("unknown-type", { name, candidates: fieldTypeNames }, part.path);
  return undefined;
}

/** A scalar type of the request: no tables behind it. */
export function readRequestType(part: Part, name: string): FieldType | undefined {
  const typeName = readText(part, `request value "${name}"`);
  if (typeName === undefined) return undefined;
  if (isScalarTypeName(typeName)) return scalarTypes[typeName];
  part.problems.add("unknown-type", { name: typeName, candidates: Object.keys(scalarTypes) }, part.path);
  return undefined;
}
