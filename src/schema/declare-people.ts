import { declareSettings } from "./declare-settings.js";
import { findField } from "./field-path.js";
import { assignmentSource, keptTables } from "./kept-tables.js";
import { isMapping, type Part, readFlag, readIgnore, readShape, readText } from "./reader.js";
import {
  type Field,
  type KeptTables,
  keptTablesOf,
  type People,
  type Role,
  type RoleSource,
  type Table,
} from "./schema.js";

export interface DeclaredPeople {
  readonly people: People | undefined;
  readonly kept: KeptTables | undefined;
}

const none: DeclaredPeople = { people: undefined, kept: undefined };

/** Reads `people`: who can ask, and where their roles come from. */
export function declarePeople(
  part: Part | undefined,
  tables: ReadonlyMap<string, Table>,
  roles: ReadonlyMap<string, Role>,
  groups: readonly string[],
): DeclaredPeople {
  if (part === undefined) return none;
  const { problems } = part;
  const keys = ["table", "name", "manager", "active", "roles", "assignments", "settings", "ignore"] as const;
  const shape = readShape(part, "people", keys);
  const tablePart = shape.get("table");
  const tableName = readText(tablePart, "people.table");
  if (tablePart === undefined) problems.add("missing-key", { what: "people", key: "table" }, part.path);
  if (tablePart === undefined || tableName === undefined) return none;
  const table = findTable(tablePart, tableName, tables);
  if (table === undefined) return none;
  if (table.key.length > 1) problems.add("key-reference", { table: tableName, why: "person" }, tablePart.path);

  const manager = readField(shape.get("manager"), table);
  const managerFits = manager?.type.target === tableName && manager.lookup === undefined;
  expectType(shape.get("manager"), manager, "manager", `a reference to ${tableName}`, managerFits);
  const active = readField(shape.get("active"), table);
  expectType(shape.get("active"), active, "active", "a boolean", active?.type.name === "boolean");
  const sources: RoleSource[] = roleParts(shape.get("roles"))
    .map((entry) =>
      isMapping(entry.value) ? readLink(entry, table, tables, roles) : readRoleField(entry, table, roles),
    )
    .filter((source) => source !== undefined);
  const kept = readFlag(shape.get("assignments"), "assignments")
    ? keptTables(table, [...tables.values()].some(isProtected))
    : undefined;
  for (const own of keptTablesOf({ tables, kept })) {
    // Two tables of one name would be one table in a database.
    const other = [...tables.values()].find(({ name, source }) => name === own.name || source === own.source);
    if (other === undefined) continue;
    const rule = "assignments are kept in a table of that name";
    problems.add("bad-name", { what: "a table", name: own.name, rule }, part.path);
  }
  if (kept !== undefined) sources.push(assignmentSource(kept));
  const name = readField(shape.get("name"), table);
  const settings = declareSettings(shape.get("settings"), { people: table, tables, roles, groups });
  const ignore = readIgnore(shape.get("ignore"));
  return { people: { table, name, manager, active, roles: sources, settings, ignore }, kept };
}

function isProtected({ grid }: Table): boolean {
  return grid?.protections === true;
}

function roleParts(part: Part | undefined): Part[] {
  if (part === undefined) return [];
  if (!Array.isArray(part.value)) return [part];
  return part.value.map((value, index): Part => ({ ...part, value, path: [...part.path, index] }));
}

function readRoleField(part: Part, table: Table, roles: ReadonlyMap<string, Role>): RoleSource | undefined {
  const field = readField(part, table);
  if (field === undefined) return undefined;
  const type = field.type.element ?? field.type;
  expectType(
    part,
    field,
    "roles",
    "a text, a choice or a list of texts",
    type.name === "text" || type.name === "choice",
  );
  checkRoleChoices(part, field, roles, undefined);
  return { kind: "field", field };
}

const optionalKeys = ["on", "from", "until"] as const;

function readLink(
  part: Part,
  people: Table,
  tables: ReadonlyMap<string, Table>,
  roles: ReadonlyMap<string, Role>,
): RoleSource | undefined {
  const what = "a link table of roles";
  const shape = readShape(part, what, ["table", "person", "role", "on", "from", "until"]);
  for (const key of ["table", "person", "role"] as const) {
    if (!shape.has(key)) part.problems.add("missing-key", { what, key }, part.path);
  }
  const tablePart = shape.get("table");
  const name = readText(tablePart, "table");
  const table = tablePart && name !== undefined ? findTable(tablePart, name, tables) : undefined;
  if (table === undefined) return undefined;
  const person = readField(shape.get("person"), table);
  const role = readField(shape.get("role"), table);
  const on = readField(shape.get("on"), table);
  expectType(
    shape.get("person"),
    person,
    "person",
    `a reference to ${people.name}`,
    person?.type.target === people.name,
  );
  const isName = role?.type.name === "text" || role?.type.name === "choice";
  expectType(shape.get("role"), role, "role", "a text or a choice", isName);
  expectType(shape.get("on"), on, "on", "a reference", on?.type.target !== undefined);
  const [from, until] = (["from", "until"] as const).map((key) => {
    const field = readField(shape.get(key), table);
    expectType(shape.get(key), field, key, "a timestamp", field?.type.name === "timestamp");
    return field;
  });
  const rolePart = shape.get("role");
  if (rolePart !== undefined && role !== undefined) checkRoleChoices(rolePart, role, roles, on?.type.target);
  const isBroken = [on, from, until].some((field, at) => field === undefined && shape.has(optionalKeys[at] ?? "on"));
  if (person === undefined || role === undefined || isBroken) return undefined;
  return { kind: "link", table, person, role, on, from, until, isMixed: false };
}

/** What a choice can hold must be roles, of the scope that they are given on. */
function checkRoleChoices(part: Part, field: Field, roles: ReadonlyMap<string, Role>, scope: string | undefined): void {
  for (const name of (field.type.element ?? field.type).choices ?? []) {
    const role = roles.get(name);
    const where = `a choice of "${field.name}"`;
    if (role === undefined) part.problems.add("unknown-role", { name, candidates: roles.keys(), where }, part.path);
    else if (role.scope !== scope)
      part.problems.add("wrong-scope", { role: name, scope: role.scope, where }, part.path);
  }
}

function findTable(part: Part, name: string, tables: ReadonlyMap<string, Table>): Table | undefined {
  const table = tables.get(name);
  if (table === undefined) part.problems.add("unknown-table", { name, candidates: tables.keys() }, part.path);
  return table;
}

function readField(part: Part | undefined, table: Table): Field | undefined {
  const name = readText(part, `a field of "${table.name}"`);
  return part && name !== undefined ? findField(part, table, name) : undefined;
}

function expectType(
  part: Part | undefined,
  field: Field | undefined,
  use: string,
  expected: string,
  fits: boolean,
): void {
  if (part === undefined || field === undefined || fits) return;
  part.problems.add("wrong-field-type", { field: field.name, use, expected, label: field.type.noun }, part.path);
}
