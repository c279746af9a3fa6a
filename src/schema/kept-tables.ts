import { labelFromName } from "./label.js";
import { type Field, type KeptTables, meansNothing, type RoleSource, type Table } from "./schema.js";
import { choice } from "./types/choice.js";
import type { FieldType } from "./types/field-type.js";
import { list } from "./types/list.js";
import { reference } from "./types/reference.js";
import { scalarTypes } from "./types/scalars.js";

const { integer, text, timestamp } = scalarTypes;

/** What a protection does to those whom it does not name: refuses them, or asks them to confirm. */
export const protectionEffects = ["reserve", "confirm"] as const;

/** `protects`: whether cells of any grid are protected as data. */
export function keptTables(people: Table, protects: boolean): KeptTables {
  const person = reference(people.name, people.key[0]?.type ?? text);
  return {
    assignments: keptTable("portier_assignments", [
      ["id", text, "id"],
      ["person", person, "person"],
      ["role", text, "role"],
      ["on", text, "record", "optional"],
      ["from", timestamp, "starts_at", "optional"],
      ["until", timestamp, "ends_at", "optional"],
      ["assignedBy", text, "assigned_by", "optional"],
      ["reason", text, "reason", "optional"],
    ]),
    delegations: keptTable("portier_delegations", [
      ["id", text, "id"],
      ["of", person, "of_person"],
      ["to", person, "to_person"],
      ["from", timestamp, "starts_at", "optional"],
      ["until", timestamp, "ends_at", "optional"],
      ["without", list(text), "without_roles", "optional"],
      ["assignedBy", text, "assigned_by", "optional"],
      ["reason", text, "reason", "optional"],
    ]),
    protections: protects ? protectionsTable(person) : undefined,
  };
}

function protectionsTable(person: FieldType): Table {
  return keptTable("portier_protections", [
    ["id", text, "id"],
    ["table", text, "of_table"],
    ["ranges", list(text), "ranges"],
    ["except", list(text), "except_ranges", "optional"],
    ["effect", choice(protectionEffects), "effect"],
    ["to", list(text), "kept_by"],
    ["note", text, "note", "optional"],
    ["from", timestamp, "starts_at", "optional"],
    ["until", timestamp, "ends_at", "optional"],
    ["by", person, "made_by", "optional"],
    ["at", timestamp, "made_at"],
    // Another random number after each change: a sum of them tells whether anything has changed.
    ["stamp", integer, "stamp"],
  ]);
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
      label: labelFromName(field),
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
      note: undefined,
    }),
  );
  const [id] = fields as [Field, ...Field[]];
  const byName = new Map(fields.map((field) => [field.name, field]));
  return {
    name,
    label: labelFromName(name),
    fields,
    byName,
    key: [id],
    address: id,
    owner: undefined,
    actions: [],
    grid: undefined,
    source: name,
    observe: false,
    note: undefined,
    ignore: meansNothing,
  };
}
