import type { BuiltInAction } from "../rules/actions.js";
import type { IgnoreInput, ScreenInput } from "../schema/document.js";
import type { ScalarTypeName } from "../schema/types/scalars.js";

/** A declaration as {@link define} takes it: a document without its rules. */
export interface Declaration {
  readonly portier?: 1;
  readonly timeZone?: string;
  readonly people?: object;
  readonly request?: Readonly<Record<string, ScalarTypeName>>;
  readonly roles?: Readonly<
    Record<
      string,
      {
        readonly include?: readonly string[];
        readonly scope?: string;
        readonly exclusive?: string | readonly string[];
        readonly minHolders?: number;
        readonly assignableBy?: string | readonly string[];
        readonly note?: string;
        readonly ignore?: IgnoreInput;
      }
    >
  >;
  readonly groups?: Readonly<Record<string, object>>;
  readonly screens?: Readonly<Record<string, ScreenInput>>;
  readonly tables: Readonly<Record<string, DeclaredTable>>;
}

interface DeclaredTable {
  readonly key: string | readonly string[];
  readonly owner?: string;
  readonly note?: string;
  readonly source?: string;
  readonly fields: Readonly<Record<string, unknown>>;
  readonly actions?: readonly string[];
  readonly grid?: object;
  readonly ranges?: Readonly<Record<string, string>>;
  readonly observe?: boolean;
  readonly ignore?: IgnoreInput;
}

// Names that a declaration declares

export type TableName<D extends Declaration> = keyof D["tables"] & string;
type Fields<D extends Declaration, T extends TableName<D>> = D["tables"][T]["fields"];
export type FieldName<D extends Declaration, T extends TableName<D>> = keyof Fields<D, T> & string;
export type RoleName<D extends Declaration> = keyof D["roles"] & string;
export type GroupName<D extends Declaration> = keyof D["groups"] & string;
type ScopedRole<D extends Declaration> = {
  [R in RoleName<D>]: NonNullable<D["roles"]>[R] extends { readonly scope: string } ? R : never;
}[RoleName<D>];
export type CustomAction<
  D extends Declaration,
  T extends TableName<D>,
> = D["tables"][T]["actions"] extends readonly (infer A extends string)[] ? A : never;
/** Of a grid whose cells are protected as data. */
export type CellAction<D extends Declaration, T extends TableName<D>> = D["tables"][T]["grid"] extends {
  readonly protections: true;
}
  ? "protect"
  : never;
type RangeName<D extends Declaration, T extends TableName<D>> = keyof D["tables"][T]["ranges"] & string;
type Tag<D extends Declaration, T extends TableName<D>> = {
  [F in FieldName<D, T>]: Fields<D, T>[F] extends { readonly tags: readonly (infer G extends string)[] } ? G : never;
}[FieldName<D, T>];

// Types of values, as an application holds them

interface ScalarValues {
  text: string;
  integer: number;
  decimal: string;
  boolean: boolean;
  date: string;
  timestamp: string;
  json: unknown;
}
type NamedValue<N> = N extends keyof ScalarValues ? ScalarValues[N] : never;

/** The type of a table's key. */
export type KeyValue<D extends Declaration, T> =
  T extends TableName<D>
    ? D["tables"][T]["key"] extends infer K extends FieldName<D, T>
      ? StoredValue<D, T, K>
      : D["tables"][T]["key"] extends readonly [infer K extends FieldName<D, T>]
        ? StoredValue<D, T, K>
        : string
    : never;

/** The type of a field's value when there is one. */
export type StoredValue<D extends Declaration, T extends TableName<D>, F extends FieldName<D, T>> = Fields<
  D,
  T
>[F] extends infer S
  ? S extends string
    ? NamedValue<S>
    : S extends { readonly choice: readonly (infer C)[] }
      ? C
      : S extends { readonly reference: infer R }
        ? KeyValue<D, R>
        : S extends { readonly list: { readonly reference: infer R } }
          ? readonly KeyValue<D, R>[]
          : S extends { readonly list: { readonly choice: readonly (infer C)[] } }
            ? readonly C[]
            : S extends { readonly list: infer N }
              ? readonly NamedValue<N>[]
              : S extends { readonly lookup: { readonly through: infer H; readonly field: infer G } }
                ? LookupValue<D, TargetOf<D, T, H>, G>
                : S extends { readonly type: infer N }
                  ? NamedValue<N>
                  : never
  : never;

type LookupValue<D extends Declaration, T, G> =
  T extends TableName<D> ? (G extends FieldName<D, T> ? StoredValue<D, T, G> : never) : never;

/** The table that a reference leads to. */
export type TargetOf<D extends Declaration, T extends TableName<D>, F> =
  F extends FieldName<D, T>
    ? Fields<D, T>[F] extends { readonly reference: infer R extends TableName<D> }
      ? R
      : never
    : never;

type IsOptional<S> = S extends { readonly optional: true }
  ? true
  : S extends { readonly lookup: object }
    ? true
    : false;

/** A record of a table. */
export type RowOf<D extends Declaration, T extends TableName<D>> = {
  [F in FieldName<D, T>]: IsOptional<Fields<D, T>[F]> extends true ? StoredValue<D, T, F> | null : StoredValue<D, T, F>;
} & {};

/** The types of all tables: what a compiled document knows of its records. */
export type TablesOf<D extends Declaration> = {
  [T in TableName<D>]: { readonly row: RowOf<D, T>; readonly action: CustomAction<D, T> | CellAction<D, T> };
};

// Checks of the declaration. Each says, of the value that was written, either nothing or a sentence: an intersection with
// it is then an error at that value. (An intersection with the values that would be right would turn the whole object
// around a wrong one into never, and every key of it red.)

/** What a wrong value cannot be; its sentence stands in the error. */
interface Mistake<Sentence extends string> {
  readonly mistake: Sentence;
}

type Among<V, Allowed, Sentence extends string> = V extends Allowed
  ? unknown
  : V extends readonly unknown[]
    ? { readonly [I in keyof V]: V[I] extends Allowed ? unknown : Mistake<Sentence> }
    : Mistake<Sentence>;

type Flags = "optional" | "sensitive" | "computed" | "generated";
type FieldKey =
  | Flags
  | "type"
  | "choice"
  | "reference"
  | "by"
  | "list"
  | "lookup"
  | "tags"
  | "default"
  | "column"
  | "note";

type CheckedField<D extends Declaration, T extends TableName<D>, S> = S extends string
  ? Among<S, ScalarTypeName | "json", "there is no such type">
  : {
      readonly [P in keyof S]: P extends "reference"
        ? Among<S[P], TableName<D>, "there is no such table">
        : P extends "by"
          ? Among<S[P], FieldName<D, T>, "there is no such field">
          : P extends "type"
            ? Among<S[P], ScalarTypeName | "json" | "choice" | "reference" | "list" | "lookup", "there is no such type">
            : P extends "list"
              ? CheckedList<D, S[P]>
              : P extends "lookup"
                ? CheckedLookup<D, T, S[P]>
                : P extends Flags
                  ? Among<S[P], boolean, "a flag is true or false">
                  : P extends FieldKey
                    ? unknown
                    : Mistake<"a field knows no such key">;
    };

type CheckedList<D extends Declaration, L> = L extends { readonly reference: infer R }
  ? { readonly reference: Among<R, TableName<D>, "there is no such table"> }
  : L extends { readonly choice: readonly string[] }
    ? unknown
    : Among<L, ScalarTypeName, "there is no such type">;

type CheckedLookup<D extends Declaration, T extends TableName<D>, L> = L extends {
  readonly through: infer H;
  readonly field: infer G;
}
  ? {
      readonly through: Among<H, FieldName<D, T>, "there is no such field">;
      readonly field: [TargetOf<D, T, H>] extends [never]
        ? unknown
        : Among<G, FieldName<D, TargetOf<D, T, H>>, "the table referred to has no such field">;
    }
  : Mistake<"a lookup has through and field">;

type CheckedTable<D extends Declaration, T extends TableName<D>, S> = {
  readonly [P in keyof S]: P extends "key"
    ? Among<S[P], FieldName<D, T>, "there is no such field">
    : P extends "owner"
      ? Among<S[P], FieldName<D, T> | `${FieldName<D, T>}.${string}`, "there is no such field">
      : P extends "grid"
        ? {
            readonly [G in keyof S[P]]: G extends "protections"
              ? unknown
              : Among<S[P][G], FieldName<D, T>, "there is no such field">;
          }
        : P extends "fields"
          ? { readonly [F in keyof S[P]]: CheckedField<D, T, S[P][F]> }
          : unknown;
};

type CheckedPeople<D extends Declaration, S> = S extends { readonly table: infer P extends TableName<D> }
  ? {
      readonly [K in keyof S]: K extends "name" | "manager" | "active"
        ? Among<S[K], FieldName<D, P>, "the people's table has no such field">
        : K extends "roles"
          ? Among<S[K], FieldName<D, P> | object, "the people's table has no such field">
          : K extends "settings"
            ? CheckedSettings<D, S[K]>
            : unknown;
    }
  : { readonly table: Mistake<"there is no such table"> };

type CheckedSettings<D extends Declaration, S> = S extends { readonly table: infer T extends TableName<D> }
  ? {
      readonly [K in keyof S]: K extends "table"
        ? unknown
        : K extends "settableBy"
          ? Among<S[K], Exclude<Assigner<D>, `${string} of this`>, "there is no such role or group">
          : K extends "adds"
            ? CheckedAdds<D, S[K]>
            : Among<S[K], FieldName<D, T>, "the settings' table has no such field">;
    }
  : { readonly table: Mistake<"there is no such table"> };

type CheckedAdds<D extends Declaration, S> = {
  readonly [T in keyof S]: T extends TableName<D>
    ? { readonly [K in keyof S[T]]: Among<S[T][K], FieldName<D, T>, "there is no such field"> }
    : Mistake<"there is no such table">;
};

type Assigner<D extends Declaration> = Exclude<RoleName<D>, ScopedRole<D>> | GroupName<D> | `${ScopedRole<D>} of this`;

type CheckedRole<D extends Declaration, S> = {
  readonly [P in keyof S]: P extends "include" | "exclusive"
    ? Among<S[P], RoleName<D>, "there is no such role">
    : P extends "assignableBy"
      ? Among<S[P], Assigner<D>, "there is no such role or group">
      : P extends "scope"
        ? Among<S[P], TableName<D>, "there is no such table">
        : unknown;
};

type GroupMember<D extends Declaration> =
  | Exclude<RoleName<D>, ScopedRole<D>>
  | GroupName<D>
  | AlongLine<Exclude<RoleName<D>, ScopedRole<D>> | GroupName<D>>
  | `person ${string}`
  | { readonly below: string; readonly levels?: number }
  | { readonly above: string; readonly levels?: number }
  | { readonly where: string };

/** Those who hold a role or are in a group, and those below or above them in the manager line. */
type AlongLine<Name extends string> =
  `${Name} and ${"" | `${number} level ` | `${number} levels `}${"below" | "above"}`;

type CheckedGroup<D extends Declaration, S> = {
  readonly [P in keyof S]: P extends "members" | "without"
    ? Among<S[P], GroupMember<D>, "there is no such role or group">
    : P extends "roles"
      ? Among<S[P], Exclude<RoleName<D>, ScopedRole<D>>, "there is no such role">
      : unknown;
};

/** The declaration with every name checked against the others. */
export type CheckedDeclaration<D extends Declaration> = {
  readonly [P in keyof D]: P extends "people"
    ? CheckedPeople<D, D[P]>
    : P extends "roles"
      ? { readonly [R in keyof D[P]]: CheckedRole<D, D[P][R]> }
      : P extends "groups"
        ? { readonly [G in keyof D[P]]: CheckedGroup<D, D[P][G]> }
        : P extends "tables"
          ? { readonly [T in TableName<D>]: CheckedTable<D, T, D["tables"][T]> }
          : unknown;
};

// Rules

export type WhoEntry<D extends Declaration, T extends TableName<D>> =
  | "anyone"
  | "signed-in"
  | "owner"
  | "above owner"
  | `above ${FieldName<D, T>}`
  | `above ${FieldName<D, T>}.${string}`
  | Exclude<RoleName<D>, ScopedRole<D>>
  | GroupName<D>
  | AlongLine<Exclude<RoleName<D>, ScopedRole<D>> | GroupName<D>>
  | `${ScopedRole<D>} of this`
  | `${ScopedRole<D>} of ${FieldName<D, T>}`
  | `${ScopedRole<D>} of ${FieldName<D, T>}.${string}`
  | `person ${string}`;

type FieldItem<D extends Declaration, T extends TableName<D>> =
  | "all"
  | "owner"
  | "-owner"
  | FieldName<D, T>
  | `-${FieldName<D, T>}`
  | `${FieldName<D, T>}..${string}`
  | `tag ${Tag<D, T>}`;

type Cells<D extends Declaration, T extends TableName<D>> = RangeName<D, T> | `${string}:${string}` | Uppercase<string>;

type FieldExtent<D extends Declaration, T extends TableName<D>> =
  | FieldItem<D, T>
  | readonly FieldItem<D, T>[]
  | {
      readonly cells: Cells<D, T> | readonly Cells<D, T>[];
      readonly except?: Cells<D, T> | readonly Cells<D, T>[];
    };

type FieldAction = Exclude<BuiltInAction, "create" | "import" | "delete">;

type Extents<D extends Declaration, T extends TableName<D>> = {
  readonly [A in FieldAction | CellAction<D, T>]?: FieldExtent<D, T>;
} & { readonly [A in "create" | "import"]?: FieldExtent<D, T> | "yes" | true } & {
  readonly [A in "delete" | CustomAction<D, T>]?: "yes" | true;
};

interface RuleHead<D extends Declaration, T extends TableName<D>, C> {
  readonly to?: WhoEntry<D, T> | readonly WhoEntry<D, T>[];
  readonly except?: WhoEntry<D, T> | readonly WhoEntry<D, T>[];
  readonly where?: C;
  readonly becomes?: C;
  readonly alsoAfter?: boolean;
  readonly from?: string;
  readonly until?: string;
  readonly note?: string;
  readonly copyOf?: string;
  readonly ignore?: IgnoreInput;
}

/** A rule of a table: who, where, and exactly one effect. */
export type RuleOf<D extends Declaration, T extends TableName<D>, C> = RuleHead<D, T, C> &
  (
    | { readonly permit: Extents<D, T>; readonly deny?: never; readonly reserve?: never; readonly confirm?: never }
    | { readonly deny: Extents<D, T>; readonly permit?: never; readonly reserve?: never; readonly confirm?: never }
    | { readonly reserve: Extents<D, T>; readonly permit?: never; readonly deny?: never; readonly confirm?: never }
    | { readonly confirm: Extents<D, T>; readonly permit?: never; readonly deny?: never; readonly reserve?: never }
  );
