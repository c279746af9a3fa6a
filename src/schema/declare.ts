import { type DeclaredField, declareFields, readRequestType, TypeLinker } from "./declare-fields.js";
import { declareRoles } from "./declare-roles.js";
import { limits } from "./limits.js";
import { checkName, type Part, readMapping, readShape, readText, readTexts } from "./reader.js";
import { type Field, type FieldPath, type People, type Schema, singleKey, type Table } from "./schema.js";
import type { FieldType } from "./types/field-type.js";

/** A {@link Schema}, and the parts of the document that hold each table's rules. */
export interface Declared {
  readonly schema: Schema;
  readonly rules: ReadonlyMap<string, Part>;
  /** The fields that are there but could not be read: their own problem is enough, uses of them are no second one. */
  readonly broken: ReadonlyMap<string, ReadonlySet<string>>;
}

interface DeclaredTable {
  readonly part: Part;
  readonly shape: ReadonlyMap<"note" | "key" | "owner" | "fields" | "rules", Part>;
  readonly fields: ReadonlyMap<string, DeclaredField>;
  readonly key: readonly string[];
}

/** Reads everything of a document but its rules. Goes on after a problem, so that all are found at once. */
export function declare(part: Part): Declared {
  const { problems } = part;
  const shape = readShape(part, "a document", ["portier", "timeZone", "people", "request", "roles", "tables"]);
  const version = shape.get("portier");
  if (version?.value !== 1) problems.add("unknown-version", { found: version?.value }, version?.path ?? part.path);

  const roles = declareRoles(shape.get("roles"));
  const { tables, declared } = declareTables(part, shape.get("tables"));
  const people = declarePeople(shape.get("people"), tables, roles);
  for (const [name, table] of tables) {
    const ownerPart = declared.get(name)?.shape.get("owner");
    const owner = readOwner(ownerPart, table, tables, people);
    // Owners lead through other tables, so they can be read only when all tables are there.
    if (owner !== undefined) Object.assign(table, { owner });
  }

  const schema: Schema = {
    tables,
    people,
    request: declareRequest(shape.get("request")),
    roles,
    timeZone: readTimeZone(shape.get("timeZone")),
  };
  const rules = new Map<string, Part>();
  const broken = new Map<string, Set<string>>();
  for (const [name, table] of declared) {
    const names = readFieldNames(table.shape.get("fields"));
    broken.set(name, new Set(names.filter((field) => !tables.get(name)?.byName.has(field))));
    const rulesPart = table.shape.get("rules");
    if (rulesPart !== undefined && tables.has(name)) rules.set(name, rulesPart);
  }
  return { schema, rules, broken };
}

function declareTables(
  document: Part,
  part: Part | undefined,
): { tables: Map<string, Table>; declared: ReadonlyMap<string, DeclaredTable> } {
  const declared = new Map<string, DeclaredTable>();
  const tables = new Map<string, Table>();
  if (part === undefined) {
    document.problems.add("missing-key", { what: "a document", key: "tables" }, document.path);
    return { tables, declared };
  }
  const entries = readMapping(part, "tables");
  if (entries.size > limits.tables) part.problems.add("too-large", { what: "tables", limit: limits.tables }, part.path);
  for (const [name, entry] of entries) {
    if (checkName(entry, "a table", name)) declared.set(name, declareTable(entry, name));
  }

  const linker = new TypeLinker(declared);
  for (const [name, table] of declared) {
    const fields: Field[] = [];
    for (const field of table.fields.values()) {
      const type = linker.typeOf(field);
      if (type !== undefined) fields.push(makeField(field, name, fields.length, type));
    }
    const byName = new Map(fields.map((field) => [field.name, field]));
    const key = table.key.map((keyName) => byName.get(keyName)).filter((field) => field !== undefined);
    tables.set(name, { name, fields, byName, key, owner: undefined });
  }
  return { tables, declared };
}

function declareTable(part: Part, name: string): DeclaredTable {
  const what = `table "${name}"`;
  const shape = readShape(part, what, ["note", "key", "owner", "fields", "rules"]);
  readText(shape.get("note"), "note");
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
  return { part, shape, fields, key };
}

/** Names as written, also of fields whose type is wrong, so that one mistake makes one problem. */
function readFieldNames(part: Part | undefined): string[] {
  return typeof part?.value === "object" && part.value !== null ? Object.keys(part.value) : [];
}

function makeField(declared: DeclaredField, table: string, index: number, type: FieldType): Field {
  const given = declared.default;
  const value = given?.value ?? null;
  if (given !== undefined && value !== null && type.canonical(value) === undefined) {
    const facts = { field: declared.name, expects: type.expects, found: value };
    given.problems.add("bad-default", facts, given.path);
  }
  return { name: declared.name, table, index, type, ...declared.flags, default: value };
}

function declareRequest(part: Part | undefined): Map<string, FieldType> {
  const request = new Map<string, FieldType>();
  if (part === undefined) return request;
  for (const [name, entry] of readMapping(part, "request")) {
    if (!checkName(entry, "a request value", name)) continue;
    if (name === "now") {
      const rule = "request.now is the moment of the session";
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

function declarePeople(
  part: Part | undefined,
  tables: ReadonlyMap<string, Table>,
  roles: ReadonlyMap<string, unknown>,
): People | undefined {
  if (part === undefined) return undefined;
  const { problems } = part;
  const shape = readShape(part, "people", ["table", "name", "manager", "active", "roles"]);
  const tablePart = shape.get("table");
  const tableName = readText(tablePart, "people.table");
  if (tablePart === undefined) problems.add("missing-key", { what: "people", key: "table" }, part.path);
  if (tablePart === undefined || tableName === undefined) return undefined;
  const table = tables.get(tableName);
  if (table === undefined) {
    problems.add("unknown-table", { name: tableName, candidates: tables.keys() }, tablePart.path);
    return undefined;
  }
  if (table.key.length > 1) problems.add("key-reference", { table: tableName, why: "several" }, tablePart.path);

  const field = (entry: Part | undefined): Field | undefined => {
    const name = readText(entry, "a field of the people");
    return entry && name !== undefined ? findField(entry, table, name) : undefined;
  };
  const expectType = (
    entry: Part | undefined,
    found: Field | undefined,
    use: string,
    expected: string,
    fits: boolean,
  ) => {
    if (entry === undefined || found === undefined || fits) return;
    problems.add("wrong-field-type", { field: found.name, use, expected, label: found.type.label }, entry.path);
  };

  const manager = field(shape.get("manager"));
  expectType(
    shape.get("manager"),
    manager,
    "manager",
    `a reference to ${tableName}`,
    manager?.type.target === tableName,
  );
  const active = field(shape.get("active"));
  expectType(shape.get("active"), active, "active", "a boolean", active?.type.name === "boolean");
  const roleFields: Field[] = [];
  for (const entry of readTexts(shape.get("roles"), "people.roles")) {
    const found = field(entry);
    if (found === undefined) continue;
    expectType(entry, found, "roles", "a text or a choice", found.type.name === "text" || found.type.name === "choice");
    for (const name of found.type.choices ?? []) {
      if (roles.has(name)) continue;
      problems.add(
        "unknown-role",
        { name, candidates: roles.keys(), where: `a choice of "${found.name}"` },
        entry.path,
      );
    }
    roleFields.push(found);
  }
  return { table, name: field(shape.get("name")), manager, active, roles: roleFields };
}

function findField(part: Part, table: Table, name: string): Field | undefined {
  const field = table.byName.get(name);
  if (field === undefined) {
    part.problems.add("unknown-field", { table: table.name, name, candidates: table.byName.keys() }, part.path);
  }
  return field;
}

function readOwner(
  part: Part | undefined,
  table: Table,
  tables: ReadonlyMap<string, Table>,
  people: People | undefined,
): FieldPath | undefined {
  const text = readText(part, `owner of "${table.name}"`);
  if (part === undefined || text === undefined) return undefined;
  const path = readPath(part, table, text.split("."), tables);
  if (path === undefined) return undefined;
  const last = path[path.length - 1] as Field;
  // In the people table itself a person's record belongs to that person: there the key leads to them.
  const leads = people !== undefined && (last.type.target === people.table.name || isKeyOf(last, people.table));
  if (leads) return path;
  const what = `owner of "${table.name}"`;
  part.problems.add("not-a-person", { what, people: people?.table.name }, part.path);
  return undefined;
}

function isKeyOf(field: Field, table: Table): boolean {
  return singleKey(table) === field;
}

function readPath(
  part: Part,
  table: Table,
  names: readonly string[],
  tables: ReadonlyMap<string, Table>,
): FieldPath | undefined {
  const path: Field[] = [];
  let current: Table = table;
  for (const [index, name] of names.entries()) {
    const field = findField(part, current, name);
    if (field === undefined) return undefined;
    path.push(field);
    if (index === names.length - 1) break;
    const next = field.type.target === undefined ? undefined : tables.get(field.type.target);
    if (next === undefined) {
      const facts = { table: current.name, field: name, label: field.type.label };
      part.problems.add("not-a-reference", facts, part.path);
      return undefined;
    }
    current = next;
  }
  const [first, ...rest] = path;
  return first && [first, ...rest];
}
