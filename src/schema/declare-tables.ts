import { type DeclaredField, declareFields } from "./declare-fields.js";
import { readGrid } from "./declare-grid.js";
import { isSource } from "./default-source.js";
import { limits } from "./limits.js";
import { TypeLinker } from "./link-types.js";
import {
  checkName,
  type Part,
  readFlag,
  readIgnore,
  readLabel,
  readMapping,
  readShape,
  readText,
  readTexts,
} from "./reader.js";
import type { Field, Table } from "./schema.js";
import type { FieldType } from "./types/field-type.js";
import { copyJson } from "./types/json.js";
import { scalarTypes } from "./types/scalars.js";

/** The tables of a document, and the parts that are read when all of them are there. */
export interface DeclaredTables {
  readonly tables: Map<string, Table>;
  readonly rules: ReadonlyMap<string, Part>;
  readonly everyTable: Part | undefined;
  readonly ranges: ReadonlyMap<string, Part>;
  readonly owners: ReadonlyMap<string, Part>;
  /** The defaults that a session knows. */
  readonly defaults: ReadonlyMap<Field, Part>;
  /** Where a grid says that its cells are protected as data. */
  readonly protections: ReadonlyMap<string, Part>;
  readonly broken: ReadonlyMap<string, ReadonlySet<string>>;
}

const tableKeys = [
  "label",
  "note",
  "source",
  "key",
  "owner",
  "fields",
  "actions",
  "grid",
  "ranges",
  "observe",
  "rules",
  "ignore",
] as const;

interface DeclaredTable {
  readonly shape: ReadonlyMap<(typeof tableKeys)[number], Part>;
  readonly fields: ReadonlyMap<string, DeclaredField>;
  readonly key: readonly string[];
}

export function declareTables(document: Part, part: Part | undefined): DeclaredTables {
  const declared = new Map<string, DeclaredTable>();
  const tables = new Map<string, Table>();
  const parts = { rules: new Map<string, Part>(), ranges: new Map<string, Part>(), owners: new Map<string, Part>() };
  const defaults = new Map<Field, Part>();
  const protections = new Map<string, Part>();
  const broken = new Map<string, Set<string>>();
  if (part === undefined) {
    document.problems.add("missing-key", { what: "a document", key: "tables" }, document.path);
    return { tables, ...parts, defaults, protections, everyTable: undefined, broken };
  }
  const entries = readMapping(part, "tables");
  if (entries.size > limits.tables) part.problems.add("too-large", { what: "tables", limit: limits.tables }, part.path);
  let everyTable: Part | undefined;
  let observesAll = false;
  for (const [name, entry] of entries) {
    if (name === "*") {
      const shape = readShape(entry, 'table "*"', ["rules", "observe"]);
      everyTable = shape.get("rules");
      observesAll = readFlag(shape.get("observe"), "observe");
    } else if (checkTableName(entry, name)) declared.set(name, declareTable(entry, name));
  }

  const linker = new TypeLinker(declared);
  for (const [name, table] of declared) tables.set(name, makeTable(name, table, linker, defaults, observesAll));
  for (const [name, { shape, fields }] of declared) {
    const table = tables.get(name) as Table;
    linkFields(table, fields, tables);
    const grid = shape.get("grid");
    if (grid !== undefined && table.grid?.protections) protections.set(name, grid);
    broken.set(name, new Set(readFieldNames(shape.get("fields")).filter((field) => !table.byName.has(field))));
    for (const [key, list] of [
      ["rules", parts.rules],
      ["ranges", parts.ranges],
      ["owner", parts.owners],
    ] as const) {
      const found = shape.get(key);
      if (found !== undefined) list.set(name, found);
    }
  }
  return { tables, ...parts, defaults, protections, everyTable, broken };
}

function checkTableName(part: Part, name: string): boolean {
  if (!checkName(part, "a table", name)) return false;
  if (!name.includes("/")) return true;
  part.problems.add("bad-name", { what: "a table", name, rule: "a rule's address has one / in it" }, part.path);
  return false;
}

function declareTable(part: Part, name: string): DeclaredTable {
  const what = `table "${name}"`;
  const shape = readShape(part, what, tableKeys);
  if (!shape.has("fields")) part.problems.add("missing-key", { what, key: "fields" }, part.path);
  const fields = declareFields(shape.get("fields"), name);
  const keyPart = shape.get("key");
  if (keyPart === undefined) {
    part.problems.add("missing-key", { what, key: "key", hint: "name the field that names a record" }, part.path);
  }
  const declaredNames = new Set(readFieldNames(shape.get("fields")));
  const key: string[] = [];
  for (const entry of readTexts(keyPart, `key of "${name}"`)) {
    const keyName = entry.value as string;
    if (!declaredNames.has(keyName)) {
      part.problems.add("unknown-field", { table: name, name: keyName, candidates: declaredNames }, entry.path);
    } else if (key.includes(keyName)) {
      part.problems.add("duplicate-name", { what: "the key field", name: keyName }, entry.path);
    } else key.push(keyName);
  }
  if (Array.isArray(keyPart?.value) && keyPart.value.length === 0) {
    part.problems.add("wrong-shape", { what: "key", expected: "at least one field", found: [] }, keyPart.path);
  }
  return { shape, fields, key };
}

/** Names as written, also of fields whose type is wrong, so that one mistake makes one problem. */
function readFieldNames(part: Part | undefined): string[] {
  return typeof part?.value === "object" && part.value !== null ? Object.keys(part.value) : [];
}

function makeTable(
  name: string,
  { shape, fields: declared, key: keyNames }: DeclaredTable,
  linker: TypeLinker,
  defaults: Map<Field, Part>,
  observesAll: boolean,
): Table {
  const fields: Field[] = [];
  for (const one of declared.values()) {
    const type = linker.typeOf(one, name);
    if (type === undefined) continue;
    const isFrom = one.default !== undefined && isSource(one.default.value, type);
    const field = makeField(isFrom ? { ...one, default: undefined } : one, name, fields.length, type);
    if (isFrom && one.default !== undefined) defaults.set(field, one.default);
    fields.push(field);
  }
  const byName = new Map(fields.map((field) => [field.name, field]));
  const key = keyNames.map((keyName) => byName.get(keyName)).filter((field) => field !== undefined);
  const [first] = key;
  for (const field of key) checkKeyField(field, shape.get("key"));
  const base = { name, label: readLabel(shape.get("label"), name), fields, byName, key, owner: undefined };
  const grid = readGrid(shape.get("grid"), base);
  return {
    ...base,
    address: key.length === 1 && first !== undefined ? first : madeAddress(name, key),
    actions: readActions(shape.get("actions"), name, grid?.protections === true),
    grid,
    source: readText(shape.get("source"), `source of "${name}"`) ?? name,
    observe: readFlag(shape.get("observe"), "observe") || (observesAll && !shape.has("observe")),
    note: readText(shape.get("note"), "note"),
    ignore: readIgnore(shape.get("ignore")),
  };
}

function checkKeyField(field: Field, part: Part | undefined): void {
  const { base } = field.type;
  if (part === undefined || (base !== "list" && base !== "json" && !field.computed)) return;
  const label = field.computed ? "computed field" : field.type.noun;
  const facts = { field: field.name, use: "a key", expected: "a stored scalar or reference", label };
  part.problems.add("wrong-field-type", facts, part.path);
}

function makeField(declared: DeclaredField, table: string, index: number, type: FieldType): Field {
  const given = declared.default;
  const value = given?.value ?? null;
  if (given !== undefined && value !== null && !type.fits(value)) {
    const facts = { field: declared.name, expects: type.expects, found: value };
    given.problems.add("bad-default", facts, given.path);
  }
  const { name, flags } = declared;
  // Copied, so that the compiled document does not change with the one that was given.
  const standard = value !== null && type.fits(value) ? copyJson(value) : value;
  return {
    name,
    table,
    index,
    type,
    ...flags,
    default: standard,
    defaultFrom: undefined,
    by: undefined,
    lookup: undefined,
  };
}

/** The address of a key of several fields, as a field made by them. */
function madeAddress(table: string, key: readonly Field[]): Field {
  const name = key.map((field) => field.name).join("/");
  const flags = { optional: false, sensitive: false, computed: true, generated: false, tags: new Set<string>() };
  const type = scalarTypes.text;
  return {
    name,
    label: key.map((field) => field.label).join(", "),
    table,
    index: -1,
    type,
    ...flags,
    default: null,
    defaultFrom: undefined,
    by: key,
    lookup: undefined,
    column: name,
    note: undefined,
  };
}

/** References made of other fields, and lookups, lead to fields that are there only when all tables are made. */
function linkFields(
  table: Table,
  declared: ReadonlyMap<string, DeclaredField>,
  tables: ReadonlyMap<string, Table>,
): void {
  for (const field of table.fields) {
    const type = declared.get(field.name)?.type;
    if (type?.kind === "reference" && type.by !== undefined) {
      const by = type.by.map((part) => table.byName.get(part.value as string)).filter((one) => one !== undefined);
      Object.assign(field, { by });
    } else if (type?.kind === "lookup") {
      const through = table.byName.get(type.through.value as string);
      const target = through?.type.target === undefined ? undefined : tables.get(through.type.target);
      const shown = target?.byName.get(type.field.value as string);
      if (through !== undefined && shown !== undefined) Object.assign(field, { lookup: { through, field: shown } });
    }
  }
}

/** The words of the built-in actions; the rules layer says what they mean. */
const builtInActions = ["list", "view", "create", "edit", "delete", "export", "import", "bulk"];

function readActions(part: Part | undefined, table: string, isProtected: boolean): string[] {
  const actions: string[] = [];
  for (const entry of readTexts(part, `actions of "${table}"`)) {
    const name = entry.value as string;
    if (!checkName(entry, "an action", name)) continue;
    const isTaken = isProtected && name === "protect";
    if (builtInActions.includes(name) || isTaken) {
      const rule = isTaken ? "a grid with protections has this action" : "every table has this action";
      entry.problems.add("bad-name", { what: "an action", name, rule }, entry.path);
    } else if (actions.includes(name)) {
      entry.problems.add("duplicate-name", { what: "the action", name }, entry.path);
    } else actions.push(name);
  }
  return actions;
}
