import { always, type Operand } from "../conditions/expression.js";
import { True } from "../conditions/truth.js";
import { type Effect, type EffectName, effects } from "../rules/effects.js";
import { labelFromName } from "../schema/label.js";
import { type DefaultSource, type Field, type FieldPath, lastOf, meansNothing, type Table } from "../schema/schema.js";
import { choice } from "../schema/types/choice.js";
import type { FieldType } from "../schema/types/field-type.js";
import { json } from "../schema/types/json.js";
import { list } from "../schema/types/list.js";
import { reference } from "../schema/types/reference.js";
import { isScalarTypeName, scalarTypes } from "../schema/types/scalars.js";
import { timestampInUtc } from "../schema/types/timestamp.js";

// Fields, tables, types and effects are shared objects, some with functions in them. As plain JSON a field is its address, a
// table its name, a type its description, an effect its name, a set or map its entries; everything else is plain data already.

export type Tables = ReadonlyMap<string, Table>;

/** Plain JSON for a part of a plan. */
export function encode(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(encode);
  if (typeof value === "number" && !Number.isFinite(value)) return { $number: String(value) };
  if (typeof value !== "object" || value === null) return value;
  if (value instanceof Set) return { $set: [...value].map(encode) };
  if (value instanceof Map) return { $map: [...value].map(encode) };
  if (isField(value)) return { $field: [value.table, value.index === -1 ? null : value.name] };
  if ("canonical" in value) return { $type: encodeType(value as FieldType) };
  if (isTable(value)) return { $table: value.name };
  if (isEffect(value)) return { $effect: value.name };
  const entries = Object.entries(value).filter(
    ([key, one]) => one !== undefined && !(key === "type" && isTyped(value)),
  );
  return Object.fromEntries(entries.map(([key, one]) => [key, encode(one)]));
}

function isField(value: object): value is Field {
  return "table" in value && "index" in value && "column" in value;
}

type Read = Extract<Operand, { readonly path: FieldPath }>;

/** Whether an operand has the type of the field that it reads, which then is not written down. */
function isTyped(value: object): boolean {
  return isRead(value) && value.type === lastOf(value.path).type;
}

function isRead(value: object): value is Read {
  return "path" in value && "kind" in value && ["field", "outer", "around", "me"].includes(value.kind as string);
}

function isEffect(value: object): value is Effect {
  return "meets" in value && "phase" in value;
}

function isTable(value: object): value is Table {
  return "byName" in value && "fields" in value;
}

export function decode(value: unknown, tables: Tables): unknown {
  if (Array.isArray(value)) return value.map((one) => decode(one, tables));
  if (typeof value !== "object" || value === null) return value;
  const { $number, $set, $map, $field, $type, $table, $effect } = value as Record<string, unknown>;
  if ($number !== undefined) return Number($number);
  if ($set !== undefined) return new Set(decode($set, tables) as unknown[]);
  if ($map !== undefined) return new Map(decode($map, tables) as [unknown, unknown][]);
  if ($field !== undefined) return findField($field as [string, string | null], tables);
  if ($type !== undefined) return decodeType($type as EncodedType);
  if ($table !== undefined) return tables.get($table as string);
  if ($effect !== undefined) return effects[$effect as EffectName];
  // What holds for everything is one object: it is known by that.
  if ("kind" in value && value.kind === "truth" && "value" in value && value.value === True) return always;
  const part = Object.fromEntries(Object.entries(value).map(([key, one]) => [key, decode(one, tables)]));
  return isRead(part) && part.type === undefined ? { ...part, type: lastOf(part.path).type } : part;
}

function findField([table, name]: [string, string | null], tables: Tables): Field | undefined {
  const found = tables.get(table);
  return name === null ? found?.address : found?.byName.get(name);
}

type EncodedType =
  | string
  | {
      readonly name: string;
      readonly of?: EncodedType;
      readonly choices?: readonly string[];
      readonly target?: string;
      readonly zone?: string;
    };

function encodeType(type: FieldType): EncodedType {
  switch (type.name) {
    case "choice":
      return { name: "choice", choices: type.choices ?? [] };
    case "list":
      return { name: "list", of: encodeType(type.element ?? scalarTypes.text) };
    case "reference": {
      const key = type.choices === undefined ? baseOf(type) : { name: "choice", choices: type.choices };
      return { name: "reference", target: type.target ?? "", of: key };
    }
    default:
      return baseOf(type);
  }
}

function baseOf({ base, zone }: FieldType): EncodedType {
  return zone === undefined ? base : { name: base, zone };
}

function decodeType(type: EncodedType): FieldType {
  if (typeof type === "string") return isScalarTypeName(type) ? scalarTypes[type] : json;
  if (type.zone !== undefined) return timestampInUtc;
  const of = decodeType(type.of ?? "text");
  if (type.name === "choice") return choice(type.choices ?? []);
  return type.name === "list" ? list(of) : reference(type.target ?? "", of);
}

/**
 * A table's shape; what leads to other fields and tables stands by name, and is linked by {@link decodeTables}. `isSent`: to
 * a browser, which is told the values of defaults, and not what of the person they are.
 */
export function encodeTable(table: Table, isSent = false): unknown {
  const { name, label, key, owner, actions, grid, source } = table;
  return {
    name,
    ...unlessMade(label, name),
    fields: table.fields.map((field) =>
      encodeField(isSent && field.defaultFrom ? { ...field, defaultFrom: known } : field),
    ),
    key: key.map((one) => one.name),
    address: key.length > 1 ? encodeField(table.address) : undefined,
    owner: encode(owner),
    actions,
    grid: encode(grid),
    source,
    ...(table.observe && !isSent ? { observe: true } : {}),
  };
}

/** A label is sent where it is not what its name says anyway. */
function unlessMade(label: string, name: string): { readonly label?: string } {
  return label === labelFromName(name) ? {} : { label };
}

interface EncodedField {
  readonly name: string;
  readonly label?: string;
  /** JSON text: a value of the application may look like anything. Absent for null. */
  readonly default?: string;
  readonly by?: readonly string[];
  /** Decoded when all tables are there. */
  readonly defaultFrom?: unknown;
  readonly lookup?: readonly [through: string, table: string, field: string];
}

function encodeField({
  table: _table,
  index: _index,
  by,
  lookup,
  default: standard,
  defaultFrom,
  label,
  note: _note,
  ...plain
}: Field): EncodedField {
  return {
    ...(encode({ ...plain }) as Pick<EncodedField, "name">),
    ...unlessMade(label, plain.name),
    ...(standard === null ? {} : { default: JSON.stringify(standard) }),
    ...(defaultFrom === undefined ? {} : { defaultFrom: encode(defaultFrom) }),
    ...(by === undefined ? {} : { by: by.map(({ name }) => name) }),
    ...(lookup === undefined ? {} : { lookup: [lookup.through.name, lookup.field.table, lookup.field.name] as const }),
  };
}

const known: DefaultSource = { kind: "now" };

interface EncodedTable {
  readonly name: string;
  readonly label?: string;
  readonly fields: readonly EncodedField[];
  readonly key: readonly string[];
  readonly address?: EncodedField;
  readonly owner?: unknown;
  readonly actions: readonly string[];
  readonly grid?: unknown;
  readonly source: string;
  readonly observe?: boolean;
}

function decodeField(encoded: EncodedField, table: string, index: number): Field {
  const { by: _by, lookup: _lookup, defaultFrom: _from, default: standard = "null", ...plain } = encoded;
  const parts = decode(plain, new Map()) as Omit<
    Field,
    "label" | "note" | "table" | "index" | "by" | "lookup" | "default" | "defaultFrom"
  >;
  const unlinked = { note: undefined, by: undefined, lookup: undefined, defaultFrom: undefined };
  return {
    ...parts,
    label: encoded.label ?? labelFromName(encoded.name),
    table,
    index,
    ...unlinked,
    default: JSON.parse(standard),
  };
}

/** Makes the tables first, and then links what leads from one to another. */
export function decodeTables(encoded: readonly unknown[]): Tables {
  const tables = new Map<string, Table>();
  const given = encoded as readonly EncodedTable[];
  for (const one of given) {
    const fields = one.fields.map((field, index) => decodeField(field, one.name, index));
    const byName = new Map(fields.map((field) => [field.name, field]));
    const key = one.key.map((name) => byName.get(name) as Field);
    const made = one.address && { ...decodeField(one.address, one.name, -1), by: key };
    const { name, label = labelFromName(name), actions, source } = one;
    const address = made ?? (key[0] as Field);
    tables.set(name, {
      name,
      label,
      fields,
      byName,
      key,
      address,
      owner: undefined,
      actions,
      grid: undefined,
      source,
      observe: one.observe === true,
      note: undefined,
      ignore: meansNothing,
    });
  }
  for (const one of given) {
    const table = tables.get(one.name) as Table;
    for (const [index, { by, lookup, defaultFrom }] of one.fields.entries()) {
      if (defaultFrom) Object.assign(table.fields[index] as Field, { defaultFrom: decode(defaultFrom, tables) });
      if (by) Object.assign(table.fields[index] as Field, { by: by.map((name) => table.byName.get(name)) });
      if (!lookup) continue;
      const [through, target, field] = lookup;
      const shown = tables.get(target)?.byName.get(field);
      Object.assign(table.fields[index] as Field, { lookup: { through: table.byName.get(through), field: shown } });
    }
    Object.assign(table, { owner: decode(one.owner, tables), grid: decode(one.grid, tables) });
  }
  return tables;
}
