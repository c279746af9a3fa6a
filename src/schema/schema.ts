import type { FieldType } from "./types/field-type.js";

/** A document's declared shapes, with every name resolved. Immutable. */
export interface Schema {
  readonly tables: ReadonlyMap<string, Table>;
  readonly people: People | undefined;
  /** Declared values of the request, without the built-in `now`. */
  readonly request: ReadonlyMap<string, FieldType>;
  readonly roles: ReadonlyMap<string, Role>;
  /** IANA name. */
  readonly timeZone: string;
  /** Where roles are assigned: the tables that Portier keeps by itself. They are not among {@link tables}. */
  readonly kept: KeptTables | undefined;
}

/**
 * The tables that Portier keeps by itself, where a document says that roles are assigned: who was given which role, who
 * acts for whom, and which cells are protected. No rule speaks of them, so nobody sees them through a session;
 * administration reads and writes them.
 */
export interface KeptTables {
  /** `id, person, role, on, from, until, assignedBy, reason`. */
  readonly assignments: Table;
  /** `id, of, to, from, until, without, assignedBy, reason`. */
  readonly delegations: Table;
  /**
   * `id, table, ranges, except, effect, to, note, from, until, by, at, stamp`; undefined where no grid says `protections`.
   */
  readonly protections: Table | undefined;
}

/** The tables of a document, and those that are kept beside it. */
export interface KnownTables {
  readonly tables: ReadonlyMap<string, Table>;
  readonly kept?: KeptTables | undefined;
}

/** The tables that Portier keeps by itself; none where roles are not assigned. */
export function keptTablesOf({ kept }: KnownTables): readonly Table[] {
  if (kept === undefined) return [];
  const { assignments, delegations, protections } = kept;
  return [assignments, delegations, ...(protections === undefined ? [] : [protections])];
}

/** A table of the document, or one that Portier keeps beside it. */
export function findTable(schema: KnownTables, name: string): Table | undefined {
  return schema.tables.get(name) ?? keptTablesOf(schema).find((table) => table.name === name);
}

/** Warnings that are not raised about a part of the document: the code of each, with the author's reason. */
export type IgnoredWarnings = ReadonlyMap<string, string>;

export const meansNothing: IgnoredWarnings = new Map();

/** A declared table. */
export interface Table {
  readonly name: string;
  /** What people read instead of the name; made from the name where none is declared. */
  readonly label: string;
  /** In declared order. */
  readonly fields: readonly Field[];
  readonly byName: ReadonlyMap<string, Field>;
  /** At least one field. */
  readonly key: readonly Field[];
  /**
   * What holds a record's address: the key itself, or for a key of several fields a field that is made {@link Field.by}
   * them and is not among {@link fields}.
   */
  readonly address: Field;
  readonly owner: FieldPath | undefined;
  /** Custom actions, in declared order. */
  readonly actions: readonly string[];
  readonly grid: Grid | undefined;
  /** The name of the table in the database. */
  readonly source: string;
  /** Rules are tried on it: where a database is open, its decisions are logged and nothing of it is refused. */
  readonly observe: boolean;
  /** What the table holds, for reports. */
  readonly note: string | undefined;
  readonly ignore: IgnoredWarnings;
}

/** A table that is also a sheet: a field holds the row's number, the others are lettered columns. */
export interface Grid {
  readonly position: Field;
  /** From A on. */
  readonly columns: readonly Field[];
  /** Whether people protect cells of it, as data. */
  readonly protections: boolean;
}

/** A declared field. */
export interface Field {
  readonly name: string;
  /** What people read instead of the name; made from the name where none is declared. */
  readonly label: string;
  readonly table: string;
  /** Position in {@link Table.fields}; -1 for the made address of a key of several fields. */
  readonly index: number;
  readonly type: FieldType;
  readonly optional: boolean;
  readonly sensitive: boolean;
  readonly computed: boolean;
  readonly generated: boolean;
  readonly tags: ReadonlySet<string>;
  /** The value of a new record when none is given; null when none is declared. */
  readonly default: unknown;
  /** Where the value of a new record comes from when none is given and none is written out. */
  readonly defaultFrom: DefaultSource | undefined;
  /** The fields that a reference to a table with a key of several fields is made of, in the order of that key. */
  readonly by: readonly Field[] | undefined;
  readonly lookup: Lookup | undefined;
  /** The name of the field's column in the database. */
  readonly column: string;
  /** What the field holds, for reports. */
  readonly note: string | undefined;
}

/** What a session knows when a record is made: a field of the person, the instant of the session, its day. */
export type DefaultSource =
  | { readonly kind: "me"; readonly path: FieldPath }
  | { readonly kind: "now" }
  | { readonly kind: "today" };

/** A value that is shown through a reference. */
export interface Lookup {
  /** A reference of the same table. */
  readonly through: Field;
  /** A field of the table that it leads to. */
  readonly field: Field;
}

/**
 * Fields read one after the other: each but the last is a reference, and the next is a field of the record it leads to.
 * Never empty, and without lookups: those are written out.
 */
export type FieldPath = readonly [Field, ...Field[]];

/** The table of users, as declared. */
export interface People {
  readonly table: Table;
  readonly name: Field | undefined;
  readonly manager: Field | undefined;
  readonly active: Field | undefined;
  /** Where a person's roles come from, besides groups. */
  readonly roles: readonly RoleSource[];
  /** Where it is kept, as data, what one person may do with one field; undefined where nothing is. */
  readonly settings: SettingSource | undefined;
  readonly ignore: IgnoredWarnings;
}

/** From least to most. */
export const settingLevels = ["none", "view", "edit"] as const;

/** How far a setting lets a person go with a field. */
export type SettingLevel = (typeof settingLevels)[number];

/** A table of the document whose records each set how far a person may go with one field of a table. */
export interface SettingSource {
  readonly table: Table;
  readonly person: Field;
  /** The name of the table that a setting is about. */
  readonly on: Field;
  /** The name of the field. */
  readonly field: Field;
  /** One of {@link settingLevels}. */
  readonly level: Field;
  /** The address of the one record that it is about, or null for all of the table; undefined: always all. */
  readonly record: Field | undefined;
  /** Instants from which and until which it counts; null for no end. */
  readonly from: Field | undefined;
  readonly until: Field | undefined;
  /** The roles and groups that may set it; nobody where none is named. */
  readonly settableBy: readonly string[];
  /** By table, what a setting may open that no rule does. All others only take away. */
  readonly adds: ReadonlyMap<string, SettingAdds>;
}

/** The fields of one table that settings may open. */
export interface SettingAdds {
  /** With those that may be edited. */
  readonly view: ReadonlySet<Field>;
  readonly edit: ReadonlySet<Field>;
}

/** Where roles of a person come from: one of their fields, or a link table. */
export type RoleSource =
  /** A field of the person with one role's name, or a list of them. */
  | { readonly kind: "field"; readonly field: Field }
  /** Records of another table, each of which assigns a role, where `on` is given on one record of the role's scope. */
  | {
      readonly kind: "link";
      readonly table: Table;
      readonly person: Field;
      readonly role: Field;
      readonly on: Field | undefined;
      /** Instants from which and until which it counts; null for no end. */
      readonly from: Field | undefined;
      readonly until: Field | undefined;
      /** Roles of every scope and of none: `on` holds the address of a record of the role's own scope, or null. */
      readonly isMixed: boolean;
    };

/** A declared role. */
export interface Role {
  readonly name: string;
  readonly note: string | undefined;
  /** The table on whose records the role is held; undefined for a role that is held globally. */
  readonly scope: string | undefined;
  /** The role itself and all that it includes, at any depth. */
  readonly closure: ReadonlySet<string>;
  /** The roles that nobody may be given beside this one; each of them names this one, too. */
  readonly exclusive: ReadonlySet<string>;
  /** How many persons must hold it (a scoped one, on each record on which it is held at all); 0 for no such number. */
  readonly minHolders: number;
  /** Who may assign it and take it away; nobody where none is said. */
  readonly assignableBy: readonly Assigner[];
  readonly ignore: IgnoredWarnings;
}

/** Who may assign a role: who holds a role or is in a group, or who holds a scoped role on the same record. */
export interface Assigner {
  readonly name: string;
  /** `lead of this`: on the record on which the role is assigned. */
  readonly ofThis: boolean;
}

/** The key field of a table whose records are named by one field; undefined for a key of several. */
export function singleKey(table: Table): Field | undefined {
  return table.key.length === 1 ? table.key[0] : undefined;
}

/** Whether a field holds something itself, and is not put together from other fields or records. */
export function isOwn(field: Field): boolean {
  return field.lookup === undefined && field.by === undefined;
}

/** Fields as a path. There must be one at least. */
export function pathOf(fields: readonly Field[]): FieldPath {
  return fields as unknown as FieldPath;
}

/** The field that a path ends in. */
export function lastOf(path: FieldPath): Field {
  return path[path.length - 1] as Field;
}

/** A field as the path that is read for it: a lookup leads through its reference, at any depth. */
export function writtenOut(field: Field): readonly Field[] {
  const { lookup } = field;
  return lookup === undefined ? [field] : [...writtenOut(lookup.through), ...writtenOut(lookup.field)];
}

/** The fields of a path as an author writes them: `object.keeper`. */
export function printFieldPath(path: FieldPath): string {
  return path.map((field) => field.name).join(".");
}
