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
  readonly label?: string;
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
export type Fields<D extends Declaration, T extends TableName<D>> = D["tables"][T]["fields"];
export type FieldName<D extends Declaration, T extends TableName<D>> = keyof Fields<D, T> & string;
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

/** The types of all tables: what a compiled document knows of its records. */
export type TablesOf<D extends Declaration> = {
  [T in TableName<D>]: {
    readonly row: RowOf<D, T>;
    readonly values: GivenValues<D, T>;
    readonly action: CustomAction<D, T> | CellAction<D, T>;
  } & (D["people"] extends { readonly table: T } ? { readonly person: PersonKey<D, T> } : unknown) &
    (D["request"] extends Readonly<Record<string, ScalarTypeName>>
      ? { readonly request: RequestValues<D["request"]> }
      : unknown);
};

/** The values of a request: what the document declares, and the time that it is taken to be. */
type RequestValues<R extends Readonly<Record<string, ScalarTypeName>>> = {
  readonly [N in keyof R | "now"]?: N extends keyof R ? NamedValue<R[N]> | null : string;
} & {};

type PersonKey<D extends Declaration, T extends TableName<D>> = Extract<KeyValue<D, T>, string | number>;

// Rules

/** Those who hold a role or are in a group, and those below or above them in the manager line. */
export type AlongLine<Name extends string> =
  `${Name} and ${"" | `${number} level ` | `${number} levels `}${"below" | "above"}`;

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

/** A rule of a table: who, where, and exactly one effect. A permit and a reserve say to whom. */
export type RuleOf<D extends Declaration, T extends TableName<D>, C> = RuleHead<D, T, C> &
  (
    | (ToSomebody<D, T> & { readonly permit: Extents<D, T> } & Without<"deny" | "reserve" | "confirm">)
    | (ToSomebody<D, T> & { readonly reserve: Extents<D, T> } & Without<"permit" | "deny" | "confirm">)
    | ({ readonly deny: Extents<D, T> } & Without<"permit" | "reserve" | "confirm">)
    | ({ readonly confirm: Extents<D, T> } & Without<"permit" | "deny" | "reserve">)
  );

interface ToSomebody<D extends Declaration, T extends TableName<D>> {
  readonly to: WhoEntry<D, T> | readonly WhoEntry<D, T>[];
}

type Without<Effect extends string> = { readonly [E in Effect]?: never };
