import type { Source } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, meansNothing, type Table } from "../schema/schema.js";
import { choice } from "../schema/types/choice.js";
import type { FieldType } from "../schema/types/field-type.js";
import { json } from "../schema/types/json.js";
import { list } from "../schema/types/list.js";
import { reference } from "../schema/types/reference.js";
import { isScalarTypeName, scalarTypes } from "../schema/types/scalars.js";
import { Plan } from "./plan.js";
import { firstOnConsole, makeReading } from "./reading.js";
import type { RoleGuard } from "./role-guard.js";
import { noScreens, type ShownScreens } from "./screens.js";
import { type Finding, Session } from "./session.js";
import type { StepData } from "./step.js";

/**
 * One person's residual plan as plain JSON: the shapes of some tables, and what is left of the rules for this person at
 * this moment. Nothing of rules that cannot apply to them, and nothing of anybody else. Made by `snapshotOf`, opened by
 * {@link openSnapshot}; what is inside may change with every version.
 */
export interface Snapshot {
  readonly portier: "snapshot 3";
  /** When it was made, as an instant. */
  readonly madeAt: string;
  /** Which rules it was made by, as the application calls them. */
  readonly version?: string;
  /** When it is not to be used any more, as an instant. */
  readonly expiresAt?: string;
  /** A check of all the rest: one that was cut or changed on its way is not opened. It keeps nobody from making another. */
  readonly check: string;
  readonly people: string | null;
  /** The key of the one whose plan it is; null for a visitor. */
  readonly key: Scalar | null;
  /** The key of who acts for that person. */
  readonly actedBy?: string;
  readonly roles: readonly string[];
  readonly screens?: ShownScreens;
  /** By table, the names of the fields that roles come from. */
  readonly bearing?: Readonly<Record<string, readonly string[]>>;
  readonly tables: readonly unknown[];
  /** By table and action. */
  readonly steps: Readonly<Record<string, Readonly<Record<string, readonly unknown[]>>>>;
}

export interface SnapshotOptions {
  /** The rules that count: a snapshot of others is not opened. Default: of any. */
  readonly version?: string;
  /** Where conditions read other records; what needs one and has none is denied, and reported as a fault. */
  readonly source?: Source;
  readonly report?: (finding: Finding) => void;
}

/**
 * Opens a snapshot in a browser: the same questions get the same answers as from the session it was made of. What the
 * answers are worth is for the server to say: it judges every change again.
 *
 * @throws PortierError (`wrong-call`) for what is no snapshot of this version, for one that is damaged, made by other rules than
 * `version` says, or past its end.
 */
export function openSnapshot(snapshot: Snapshot, options: SnapshotOptions = {}): Session {
  const problem = problemOf(snapshot, options.version);
  if (problem !== undefined) throw portierError("wrong-call", { what: problem, hint: "make it anew with snapshotOf" });
  const report = options.report ?? firstOnConsole();
  const tables = decodeTables(snapshot.tables);
  const steps = (table: Table, action: ActionName): readonly StepData[] => {
    const own = ownValue(ownValue(snapshot.steps, table.name) ?? {}, action) ?? [];
    return own.map((step) => decode(step, tables) as StepData);
  };
  const plan = new Plan({ tables }, steps);
  return new Session({
    people: snapshot.people ?? undefined,
    shared: plan,
    plan: () => plan,
    decided: () => plan,
    key: snapshot.key,
    actedBy: snapshot.actedBy,
    roles: () => snapshot.roles,
    guard: () => guardOf(snapshot, tables),
    reading: makeReading(options.source, report),
    screens: () => snapshot.screens ?? noScreens,
    report,
    origin: undefined,
  });
}

function problemOf(snapshot: Snapshot, version: string | undefined): string | undefined {
  if (snapshot?.portier !== "snapshot 3") return "this is no snapshot of this version";
  const { check, expiresAt, ...content } = snapshot;
  if (check !== checkOf({ ...content, expiresAt })) return "this snapshot is damaged: it is not as it was made";
  if (version !== undefined && version !== snapshot.version) {
    return `this snapshot was made by other rules: ${snapshot.version ?? "it names none"}, not ${version}`;
  }
  const end = expiresAt === undefined ? undefined : Date.parse(expiresAt);
  return end !== undefined && end <= Date.now() ? `this snapshot ended at ${expiresAt}` : undefined;
}

/**
 * A check of plain JSON, whatever the order of its properties: FNV-1a over its texts, in 32 bits, twice with different
 * beginnings. (Fowler, Noll, Vo: draft-eastlake-fnv)
 */
export function checkOf(value: unknown): string {
  let [one, other] = [0x811c9dc5, 0x01000193];
  const add = (text: string) => {
    for (let i = 0; i < text.length; i++) {
      const unit = text.charCodeAt(i);
      one = Math.imul(one ^ unit, 0x01000193);
      other = Math.imul(other ^ unit, 0x01000193) + i;
    }
  };
  const walk = (part: unknown): void => {
    if (typeof part !== "object" || part === null) {
      add(`${JSON.stringify(part)},`);
      return;
    }
    add(Array.isArray(part) ? "[" : "{");
    for (const [key, inner] of Object.entries(part).sort(([a], [b]) => (a < b ? -1 : 1))) {
      if (inner === undefined) continue;
      add(`${JSON.stringify(key)}:`);
      walk(inner);
    }
    add("]");
  };
  walk(value);
  return [one, other].map((half) => (half >>> 0).toString(16).padStart(8, "0")).join("");
}

/** Who holds what is not told to a browser: it accepts no change of it. The server judges. */
function guardOf({ bearing = {} }: Snapshot, tables: Tables): RoleGuard {
  return {
    bears: (table) => {
      const names = ownValue(bearing, table);
      const fields = (names ?? []).map((name) => tables.get(table)?.byName.get(name));
      return names && new Set(fields.filter((field) => field !== undefined));
    },
    refusal: () => "needs-source",
  };
}

/** Tables and actions are called what people like, `constructor` too. */
function ownValue<V>(mapping: Readonly<Record<string, V>>, name: string): V | undefined {
  return Object.hasOwn(mapping, name) ? mapping[name] : undefined;
}

// Fields and types are shared objects with functions in them. In a snapshot a field is its address, a type its
// description, a set or map its entries; everything else is plain data already.

type Tables = ReadonlyMap<string, Table>;

/** Plain JSON for a part of a plan. */
export function encode(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(encode);
  if (typeof value === "number" && !Number.isFinite(value)) return { $number: String(value) };
  if (typeof value !== "object" || value === null) return value;
  if (value instanceof Set) return { $set: [...value].map(encode) };
  if (value instanceof Map) return { $map: [...value].map(encode) };
  if (isField(value)) return { $field: [value.table, value.index === -1 ? null : value.name] };
  if ("canonical" in value) return { $type: encodeType(value as FieldType) };
  const entries = Object.entries(value).filter(([, one]) => one !== undefined);
  return Object.fromEntries(entries.map(([key, one]) => [key, encode(one)]));
}

function isField(value: object): value is Field {
  return "table" in value && "index" in value && "column" in value;
}

function decode(value: unknown, tables: Tables): unknown {
  if (Array.isArray(value)) return value.map((one) => decode(one, tables));
  if (typeof value !== "object" || value === null) return value;
  const { $number, $set, $map, $field, $type } = value as Record<string, unknown>;
  if ($number !== undefined) return Number($number);
  if ($set !== undefined) return new Set(decode($set, tables) as unknown[]);
  if ($map !== undefined) return new Map(decode($map, tables) as [unknown, unknown][]);
  if ($field !== undefined) return findField($field as [string, string | null], tables);
  if ($type !== undefined) return decodeType($type as EncodedType);
  return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, decode(one, tables)]));
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
    };

function encodeType(type: FieldType): EncodedType {
  switch (type.name) {
    case "choice":
      return { name: "choice", choices: type.choices ?? [] };
    case "list":
      return { name: "list", of: encodeType(type.element ?? scalarTypes.text) };
    case "reference": {
      const key = type.choices === undefined ? type.base : { name: "choice", choices: type.choices };
      return { name: "reference", target: type.target ?? "", of: key };
    }
    default:
      return type.name;
  }
}

function decodeType(type: EncodedType): FieldType {
  if (typeof type === "string") return isScalarTypeName(type) ? scalarTypes[type] : json;
  const of = decodeType(type.of ?? "text");
  if (type.name === "choice") return choice(type.choices ?? []);
  return type.name === "list" ? list(of) : reference(type.target ?? "", of);
}

/** A table's shape; what leads to other fields and tables stands by name, and is linked by {@link decodeTables}. */
export function encodeTable(table: Table): unknown {
  const { name, key, owner, actions, grid, source } = table;
  return {
    name,
    fields: table.fields.map(encodeField),
    key: key.map((one) => one.name),
    address: key.length > 1 ? encodeField(table.address) : undefined,
    owner: encode(owner),
    actions,
    grid: encode(grid),
    source,
  };
}

interface EncodedField {
  readonly by?: readonly string[];
  readonly lookup?: readonly [through: string, table: string, field: string];
}

function encodeField({ table: _table, index: _index, by, lookup, ...plain }: Field): EncodedField {
  return {
    ...(encode({ ...plain }) as object),
    ...(by === undefined ? {} : { by: by.map(({ name }) => name) }),
    ...(lookup === undefined ? {} : { lookup: [lookup.through.name, lookup.field.table, lookup.field.name] as const }),
  };
}

interface EncodedTable {
  readonly name: string;
  readonly fields: readonly EncodedField[];
  readonly key: readonly string[];
  readonly address?: EncodedField;
  readonly owner?: unknown;
  readonly actions: readonly string[];
  readonly grid?: unknown;
  readonly source: string;
}

function decodeField({ by: _by, lookup: _lookup, ...plain }: EncodedField, table: string, index: number): Field {
  const parts = decode(plain, new Map()) as Omit<Field, "table" | "index" | "by" | "lookup">;
  return { ...parts, table, index, by: undefined, lookup: undefined };
}

/** Makes the tables first, and then links what leads from one to another. */
function decodeTables(encoded: readonly unknown[]): Tables {
  const tables = new Map<string, Table>();
  const given = encoded as readonly EncodedTable[];
  for (const one of given) {
    const fields = one.fields.map((field, index) => decodeField(field, one.name, index));
    const byName = new Map(fields.map((field) => [field.name, field]));
    const key = one.key.map((name) => byName.get(name) as Field);
    const made = one.address && { ...decodeField(one.address, one.name, -1), by: key };
    const { name, actions, source } = one;
    const address = made ?? (key[0] as Field);
    tables.set(name, {
      name,
      fields,
      byName,
      key,
      address,
      owner: undefined,
      actions,
      grid: undefined,
      source,
      meant: meansNothing,
    });
  }
  for (const one of given) {
    const table = tables.get(one.name) as Table;
    for (const [index, { by, lookup }] of one.fields.entries()) {
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
