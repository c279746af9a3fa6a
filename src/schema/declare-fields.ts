import { limits } from "./limits.js";
import { checkName, isMapping, type Part, readFlag, readMapping, readShape, readText, readTexts } from "./reader.js";
import type { Field } from "./schema.js";
import { choice } from "./types/choice.js";
import { type FieldType, fieldTypeNames } from "./types/field-type.js";
import { reference } from "./types/reference.js";
import { isScalarTypeName, scalarTypes } from "./types/scalars.js";

/** A field as declared, before references are followed. */
export interface DeclaredField {
  readonly part: Part;
  readonly name: string;
  readonly type: FieldType | { readonly reference: string; readonly part: Part };
  readonly flags: Pick<Field, "optional" | "sensitive" | "computed" | "generated">;
  readonly default: Part | undefined;
}

const longKeys = [
  "type",
  "choice",
  "reference",
  "optional",
  "sensitive",
  "computed",
  "generated",
  "default",
  "note",
] as const;

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
    const type = readType(part, part.value);
    const flags = { optional: false, sensitive: false, computed: false, generated: false };
    return type && { part, name, type, flags, default: undefined };
  }
  if (!isMapping(part.value)) {
    const expected = "a type's name or a mapping";
    part.problems.add("wrong-shape", { what: `field "${name}"`, expected, found: part.value }, part.path);
    return undefined;
  }
  const shape = readShape(part, `field "${name}"`, longKeys);
  const type = readLongType(part, shape, name);
  const flags = {
    optional: readFlag(shape.get("optional"), "optional"),
    sensitive: readFlag(shape.get("sensitive"), "sensitive"),
    computed: readFlag(shape.get("computed"), "computed"),
    generated: readFlag(shape.get("generated"), "generated"),
  };
  readText(shape.get("note"), "note");
  return type && { part, name, type, flags, default: shape.get("default") };
}

function readLongType(
  part: Part,
  shape: ReadonlyMap<(typeof longKeys)[number], Part>,
  name: string,
): DeclaredField["type"] | undefined {
  const choices = shape.get("choice");
  const target = shape.get("reference");
  const named = shape.get("type");
  const typeName = readText(named, `type of "${name}"`);
  if (choices !== undefined) {
    checkImplied(named, typeName, "choice");
    return readChoice(choices, name);
  }
  if (target !== undefined) {
    checkImplied(named, typeName, "reference");
    const table = readText(target, `reference of "${name}"`);
    return table === undefined ? undefined : { reference: table, part: target };
  }
  if (named === undefined) part.problems.add("untyped-field", { name }, part.path);
  return named && typeName !== undefined ? readType(named, typeName) : undefined;
}

/** `choice` and `reference` imply the type; saying it as well is fine, saying another is not. */
function checkImplied(named: Part | undefined, typeName: string | undefined, implied: string): void {
  if (named === undefined || typeName === undefined || typeName === implied) return;
  named.problems.add("wrong-shape", { what: "type", expected: `"${implied}" here`, found: typeName }, named.path);
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

function readType(part: Part, name: string): FieldType | undefined {
  if (isScalarTypeName(name)) return scalarTypes[name];
  if (name === "choice" || name === "reference") {
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

/** Follows references to the type of the key they hold, through keys that are references themselves. */
export class TypeLinker {
  readonly #tables: ReadonlyMap<string, { fields: ReadonlyMap<string, DeclaredField>; key: readonly string[] }>;
  readonly #keyTypes = new Map<string, FieldType | "open" | "broken">();

  constructor(tables: ReadonlyMap<string, { fields: ReadonlyMap<string, DeclaredField>; key: readonly string[] }>) {
    this.#tables = tables;
  }

  typeOf(field: DeclaredField): FieldType | undefined {
    if (!("reference" in field.type)) return field.type;
    const { reference: target, part } = field.type;
    if (!this.#tables.has(target)) {
      part.problems.add("unknown-table", { name: target, candidates: this.#tables.keys() }, part.path);
      return undefined;
    }
    const key = this.#keyType(target, part);
    return key && reference(target, key);
  }

  #keyType(table: string, from: Part): FieldType | undefined {
    const known = this.#keyTypes.get(table);
    if (known === "open") from.problems.add("key-reference", { table, why: "circle" }, from.path);
    if (known === "open" || known === "broken") return undefined;
    if (known !== undefined) return known;

    const { fields, key } = this.#tables.get(table) ?? { fields: new Map<string, DeclaredField>(), key: [] };
    this.#keyTypes.set(table, "open");
    const [name] = key;
    const field = name === undefined || key.length > 1 ? undefined : fields.get(name);
    if (key.length > 1) from.problems.add("key-reference", { table, why: "several" }, from.path);
    const type = field && this.typeOf(field);
    this.#keyTypes.set(table, type ?? "broken");
    return type;
  }
}
