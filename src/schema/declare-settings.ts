import { findField } from "./field-path.js";
import { type Part, readMapping, readShape, readText, readTexts } from "./reader.js";
import {
  type Field,
  isOwn,
  type Role,
  type SettingAdds,
  type SettingSource,
  settingLevels,
  type Table,
} from "./schema.js";

const keys = ["table", "person", "on", "field", "level", "record", "from", "until", "settableBy", "adds"] as const;
const needed = ["table", "person", "on", "field", "level"] as const;
const optional = ["record", "from", "until"] as const;

type Shape = ReadonlyMap<(typeof keys)[number], Part>;

/** What the names in `people.settings` mean. */
export interface SettingScope {
  readonly people: Table;
  readonly tables: ReadonlyMap<string, Table>;
  readonly roles: ReadonlyMap<string, Role>;
  readonly groups: readonly string[];
}

/** Reads `people.settings`: the table that holds what a person may do with one field, as data. */
export function declareSettings(part: Part | undefined, scope: SettingScope): SettingSource | undefined {
  if (part === undefined) return undefined;
  const { problems, path } = part;
  const shape: Shape = readShape(part, "people.settings", keys);
  for (const key of needed) {
    if (!shape.has(key)) problems.add("missing-key", { what: "people.settings", key }, path);
  }
  const table = readTable(shape.get("table"), scope.tables);
  const settableBy = readAssigners(shape.get("settableBy"), scope);
  const adds = readAdds(shape.get("adds"), scope.tables);
  if (table === undefined) return undefined;
  const read = (key: (typeof keys)[number], expected: string, fits: (field: Field) => boolean) => {
    const own = shape.get(key);
    const name = readText(own, key);
    const field = own && name !== undefined ? findField(own, table, name) : undefined;
    if (own === undefined || field === undefined) return undefined;
    if (isOwn(field) && fits(field)) return field;
    const facts = { field: field.name, use: key, expected, label: field.type.noun };
    problems.add("wrong-field-type", facts, own.path);
    return undefined;
  };
  const isName = ({ type }: Field) => type.name === "text" || type.name === "choice";
  const isInstant = ({ type }: Field) => type.name === "timestamp";
  const person = read("person", `a reference to ${scope.people.name}`, (f) => f.type.target === scope.people.name);
  const on = read("on", "a text or a choice", isName);
  const field = read("field", "a text or a choice", isName);
  const level = read("level", "a text or a choice", isName);
  const record = read("record", "a text or a reference", (f) => f.type.name === "text" || f.type.target !== undefined);
  const from = read("from", "a timestamp", isInstant);
  const until = read("until", "a timestamp", isInstant);
  checkChoices(shape.get("on"), on, [...scope.tables.keys()]);
  checkChoices(shape.get("level"), level, settingLevels);
  const fieldNames = [...scope.tables.values()].flatMap(({ fields }) => fields.map(({ name }) => name));
  checkChoices(shape.get("field"), field, fieldNames);
  const found = { record, from, until };
  if (optional.some((key) => shape.has(key) && found[key] === undefined)) return undefined;
  if (person === undefined || on === undefined || field === undefined || level === undefined) return undefined;
  return { table, person, on, field, level, record, from, until, settableBy, adds };
}

function readTable(part: Part | undefined, tables: ReadonlyMap<string, Table>): Table | undefined {
  const name = readText(part, "people.settings.table");
  return part && name !== undefined ? findNamed(part, name, tables) : undefined;
}

function findNamed(part: Part, name: string, tables: ReadonlyMap<string, Table>): Table | undefined {
  const table = tables.get(name);
  if (table === undefined) part.problems.add("unknown-table", { name, candidates: tables.keys() }, part.path);
  return table;
}

/** Roles that are held on no record, and groups. */
function readAssigners(part: Part | undefined, { roles, groups }: SettingScope): string[] {
  return readTexts(part, "settableBy of people.settings").flatMap((entry) => {
    const name = entry.value as string;
    const role = roles.get(name);
    if (role?.scope !== undefined) entry.problems.add("scoped-role", { role: name, scope: role.scope }, entry.path);
    else if (role !== undefined || groups.includes(name)) return [name];
    else entry.problems.add("unknown-who", { name, candidates: [...roles.keys(), ...groups] }, entry.path);
    return [];
  });
}

/** A choice can hold nothing but what a setting can mean. */
function checkChoices(part: Part | undefined, field: Field | undefined, names: readonly string[]): void {
  for (const name of field?.type.choices ?? []) {
    if (names.includes(name)) continue;
    part?.problems.add("setting-choice", { field: field?.name ?? "", name, candidates: names }, part.path);
  }
}

/** By table, the fields that a setting may open. Each is named: there is no "all", as there is none for what is sensitive. */
function readAdds(part: Part | undefined, tables: ReadonlyMap<string, Table>): Map<string, SettingAdds> {
  const adds = new Map<string, SettingAdds>();
  for (const [name, entry] of part === undefined ? [] : readMapping(part, "adds of people.settings")) {
    const table = findNamed(entry, name, tables);
    if (table === undefined) continue;
    const shape = readShape(entry, `adds of "${name}"`, ["view", "edit"]);
    const fields = (key: "view" | "edit") =>
      readTexts(shape.get(key), key).flatMap((one) => {
        const field = findField(one, table, one.value as string);
        const why =
          field === undefined
            ? undefined
            : table.key.includes(field)
              ? "the key"
              : key === "edit" && (field.computed || !isOwn(field))
                ? "a computed field"
                : undefined;
        if (why !== undefined) one.problems.add("setting-field", { field: one.value as string, why }, one.path);
        return field === undefined || why !== undefined ? [] : [field];
      });
    const edit = new Set(fields("edit"));
    // Whoever may be given a field to edit may be given it to see.
    adds.set(name, { view: new Set([...fields("view"), ...edit]), edit });
  }
  return adds;
}
