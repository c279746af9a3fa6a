import type { FieldInput, GridInput, GroupInput, RoleInput, TableInput } from "../schema/document.js";
import type { ScalarTypeName } from "../schema/types/scalars.js";
import type {
  AlongLine,
  Declaration,
  FieldName,
  GroupName,
  RoleName,
  ScopedRole,
  TableName,
  TargetOf,
} from "./types.js";

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

/** The keys of a part of a document, as editors describe them. */
type Described<Part> = { readonly [K in keyof Part]?: unknown };

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
  | "label"
  | "note";

type CheckedField<D extends Declaration, T extends TableName<D>, S> = S extends string
  ? Among<S, ScalarTypeName | "json", "there is no such type">
  : Described<Extract<FieldInput, object>> & {
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
        ? Described<GridInput> & {
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
      ? { readonly [R in keyof D[P]]: Described<RoleInput> & CheckedRole<D, D[P][R]> }
      : P extends "groups"
        ? { readonly [G in keyof D[P]]: Described<GroupInput> & CheckedGroup<D, D[P][G]> }
        : P extends "tables"
          ? { readonly [T in TableName<D>]: Described<TableInput> & CheckedTable<D, T, D["tables"][T]> }
          : unknown;
};
