import { type Field, type KeptTables, meansNothing, type RoleSource, type Table } from "./schema.js";
import type { FieldType } from "./types/field-type.js";
import { list } from "./types/list.js";
import { reference } from "./types/reference.js";
import { scalarTypes } from "./types/scalars.js";

const { text, timestamp } = scalarTypes;

export function keptTables(people: Table): KeptTables {
  const person = reference(people.name, people.key[0]?.type ?? text);
  return {
    assignments: keptTable("portier_assignments", [
      ["id", text, "id"],
      ["person", person, "person"],
      ["role", text, "role"],
      ["on", text, "record", "optional"],
      ["from", timestamp, "starts_at", "optional"],
      ["until", timestamp, "ends_at", "optional"],
      ["givenBy", text, "given_by", "optional"],
      ["reason", text, "reason", "optional"],
    ]),
    delegations: keptTable("portier_delegations", [
      ["id", text, "id"],
      ["of", person, "of_person"],
      ["to", person, "to_person"],
      ["from", timestamp, "starts_at", "optional"],
      ["until", timestamp, "ends_at", "optional"],
      ["without", list(text), "without_roles", "optional"],
      ["givenBy", text, "given_by", "optional"],
      ["reason", text, "reason", "optional"],
    ]),
  };
}

/** The assignments as what gives roles. */
export function assignmentSource({ assignments: table }: KeptTables): RoleSource {
  const field = (name: string) => table.byName.get(name) as Field;
  const [person, role, on] = [field("person"), field("role"), field("on")];
  return { kind: "link", table, person, role, on, from: field("from"), until: field("until"), isMixed: true };
}

type KeptField = readonly [name: string, type: FieldType, column: string, optional?: "optional"];

function keptTable(name: string, declared: readonly KeptField[]): Table {
  const fields = declared.map(
    ([field, type, column, optional], index): Field => ({
      name: field,
      table: name,
      index,
      type,
      optional: optional !== undefined,
      sensitive: false,
      computed: false,
      generated: false,
      tags: new Set(),
      default: null,
      defaultFrom: undefined,
      by: undefined,
      lookup: undefined,
      column,
    }),
  );
  const [id] = fields as [Field, ...Field[]];
  const byName = new Map(fields.map((field) => [field.name, field]));
  return {
    name,
    fields,
    byName,
    key: [id],
    address: id,
    owner: undefined,
    actions: [],
    grid: undefined,
    source: name,
    observe: false,
    meant: meansNothing,
  };
}
