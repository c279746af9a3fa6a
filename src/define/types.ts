import type { BuiltInAction } from "../rules/actions.js";
import type { EffectName } from "../rules/effects.js";
import type { DocumentInput, RuleInput, TableInput } from "../schema/document.js";
import type { ScalarTypeName } from "../schema/types/scalars.js";

/** A declaration as {@link define} takes it: a document without its rules. */
export interface Declaration
  extends Partial<Pick<DocumentInput, "portier">>,
    Omit<DocumentInput, "portier" | "tables"> {
  readonly request?: Readonly<Record<string, ScalarTypeName>>;
  readonly tables: Readonly<Record<string, DeclaredTable>>;
}

/** Fields are typed by what is written, so that a mistake in one is an error there and nowhere else. */
interface DeclaredTable extends Omit<TableInput, "fields"> {
  readonly fields: Readonly<Record<string, unknown>>;
}

// Names that a declaration declares

export type TableName<D extends Declaration> = Shown<keyof D["tables"] & string>;
export type Fields<D extends Declaration, T extends TableName<D>> = D["tables"][T]["fields"];
export type FieldName<D extends Declaration, T extends TableName<D>> = Shown<keyof Fields<D, T> & string>;
export type RoleName<D extends Declaration> = keyof D["roles"] & string;
export type GroupName<D extends Declaration> = keyof D["groups"] & string;
export type ScopedRole<D extends Declaration> = {
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

/** The fields of a table that can be given a value: neither computed nor put together from others. */
type GivenField<D extends Declaration, T extends TableName<D>> = {
  [F in FieldName<D, T>]: Fields<D, T>[F] extends
    | { readonly computed: true }
    | { readonly lookup: object }
    | { readonly by: object }
    ? never
    : F;
}[FieldName<D, T>];

/** The values that a change may give: of some of the fields. */
export type GivenValues<D extends Declaration, T extends TableName<D>> = {
  readonly [F in GivenField<D, T>]?: RowOf<D, T>[F];
} & {};

/** What TypeScript knows of a declared document. */
export type DocumentTypesOf<D extends Declaration> = {
  readonly tables: {
    readonly [T in TableName<D>]: {
      readonly row: RowOf<D, T>;
      readonly values: GivenValues<D, T>;
      readonly action: CustomAction<D, T> | CellAction<D, T>;
    };
  };
} & (D["people"] extends { readonly table: infer T extends TableName<D> }
  ? { readonly person: PersonKey<D, T> }
  : unknown) &
  (D["request"] extends Readonly<Record<string, ScalarTypeName>>
    ? { readonly request: RequestValues<D["request"]> }
    : unknown);

/** The values of a request: what the document declares, and the time that it is taken to be. */
type RequestValues<R extends Readonly<Record<string, ScalarTypeName>>> = {
  readonly [N in keyof R | "now"]?: N extends keyof R ? NamedValue<R[N]> | null : string;
} & {};

type PersonKey<D extends Declaration, T extends TableName<D>> = Extract<KeyValue<D, T>, string | number>;

// Rules

/** Those who hold a role or are in a group, and those below or above them in the manager line. */
export type AlongLine<Name extends string> =
  `${Name} and ${"" | `${number} level ` | `${number} levels `}${"below" | "above"}`;

export type WhoEntry<D extends Declaration, T extends TableName<D>> = Shown<
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
  | `person ${string}`
>;

type FieldItem<D extends Declaration, T extends TableName<D>> = Shown<
  | "all"
  | "owner"
  | "-owner"
  | FieldName<D, T>
  | `-${FieldName<D, T>}`
  | `${FieldName<D, T>}..${string}`
  | `tag ${Tag<D, T>}`
>;

type Cells<D extends Declaration, T extends TableName<D>> = Shown<
  RangeName<D, T> | `${string}:${string}` | Uppercase<string>
>;

type FieldExtent<D extends Declaration, T extends TableName<D>> = Shown<
  | FieldItem<D, T>
  | readonly FieldItem<D, T>[]
  | {
      readonly cells: Cells<D, T> | readonly Cells<D, T>[];
      readonly except?: Cells<D, T> | readonly Cells<D, T>[];
    }
>;

type FieldAction = Exclude<BuiltInAction, "create" | "import" | "delete">;

type Extents<D extends Declaration, T extends TableName<D>> = Shown<
  {
    readonly [A in FieldAction | CellAction<D, T>]?: FieldExtent<D, T>;
  } & { readonly [A in "create" | "import"]?: FieldExtent<D, T> | "yes" | true } & {
    readonly [A in "delete" | CustomAction<D, T>]?: "yes" | true;
  }
>;

/** Each key of a rule but its effect, as the table types it: described where {@link RuleInput} describes it. */
type RuleHead<D extends Declaration, T extends TableName<D>, C> = {
  readonly [K in keyof RuleInput as Exclude<K, EffectName | "to" | "skip">]: K extends "except"
    ? OneOrMore<WhoEntry<D, T>>
    : K extends "where" | "becomes"
      ? Shown<C | string | boolean>
      : RuleInput[K];
};

/** The same type without its name, after which editors would show the whole declaration. */
type Shown<X> = { readonly it: X }["it"];

type OneOrMore<Name> = Shown<Name | readonly Name[]>;

type Effect<D extends Declaration, T extends TableName<D>, E extends EffectName> = {
  readonly [K in keyof Pick<RuleInput, E>]-?: Extents<D, T>;
} & { readonly [K in Exclude<EffectName, E>]?: never };

/** A rule of a table: who, where, and exactly one effect. A permit and a reserve say to whom. */
export type RuleOf<D extends Declaration, T extends TableName<D>, C> = RuleHead<D, T, C> &
  (
    | (ToSomebody<D, T> & (Effect<D, T, "permit"> | Effect<D, T, "reserve">))
    | (Partial<ToSomebody<D, T>> & (Effect<D, T, "deny"> | Effect<D, T, "confirm">))
  );

type ToSomebody<D extends Declaration, T extends TableName<D>> = {
  readonly [K in keyof Pick<RuleInput, "to">]-?: OneOrMore<WhoEntry<D, T>>;
};
