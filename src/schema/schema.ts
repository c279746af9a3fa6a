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
}

export interface Table {
  readonly name: string;
  /** In declared order. */
  readonly fields: readonly Field[];
  readonly byName: ReadonlyMap<string, Field>;
  /** At least one field. */
  readonly key: readonly Field[];
  readonly owner: FieldPath | undefined;
}

export interface Field {
  readonly name: string;
  readonly table: string;
  /** Position in {@link Table.fields}. */
  readonly index: number;
  readonly type: FieldType;
  readonly optional: boolean;
  readonly sensitive: boolean;
  readonly computed: boolean;
  readonly generated: boolean;
  /** The value of a new record when none is given; null when none is declared. */
  readonly default: unknown;
}

/**
 * Fields read one after the other: each but the last is a reference, and the next is a field of the record it leads to.
 * Never empty.
 */
export type FieldPath = readonly [Field, ...Field[]];

export interface People {
  readonly table: Table;
  readonly name: Field | undefined;
  readonly manager: Field | undefined;
  readonly active: Field | undefined;
  readonly roles: readonly Field[];
}

export interface Role {
  readonly name: string;
  readonly note: string | undefined;
  /** The role itself and all that it includes, at any depth. */
  readonly closure: ReadonlySet<string>;
}

/** The key field of a table whose records are named by one field; undefined for a key of several. */
export function singleKey(table: Table): Field | undefined {
  return table.key.length === 1 ? table.key[0] : undefined;
}

/** The fields of a path as an author writes them: `object.keeper`. */
export function printFieldPath(path: FieldPath): string {
  return path.map((field) => field.name).join(".");
}
