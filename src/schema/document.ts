/**
 * The document as an application writes it in TypeScript, or as it comes out of YAML or JSON. `compile` checks every
 * part, so a value that was read from a file may be handed over as it is.
 */
export interface DocumentInput {
  /** The version of the format. */
  readonly portier: 1;
  /** IANA name; decides which day `today` is. Default `UTC`. */
  readonly timeZone?: string;
  readonly people?: PeopleInput;
  /** What the application promises to pass with each session: name to type. */
  readonly request?: Readonly<Record<string, string>>;
  readonly roles?: Readonly<Record<string, RoleInput>>;
  readonly tables: Readonly<Record<string, TableInput>>;
}

export interface PeopleInput {
  /** The table that holds the persons. */
  readonly table: string;
  /** The field with what to call a person on screens. */
  readonly name?: string;
  /** The field that leads to the person above. */
  readonly manager?: string;
  /** A boolean field; whoever is not `true` meets nothing. */
  readonly active?: string;
  /** Fields of the person that hold the name of a role. */
  readonly roles?: string | readonly string[];
}

export interface RoleInput {
  /** Roles that whoever holds this one holds, too. */
  readonly include?: readonly string[];
  readonly note?: string;
}

export interface TableInput {
  readonly note?: string;
  /** One field, or several that together name a record. */
  readonly key: string | readonly string[];
  /** A field, or a path of references, that leads to a person. */
  readonly owner?: string;
  readonly fields: Readonly<Record<string, FieldInput>>;
  readonly rules?: Readonly<Record<string, RuleInput>>;
}

/** A type's name, or the long form; `choice` and `reference` imply their type. */
export type FieldInput =
  | string
  | {
      readonly type?: string;
      readonly choice?: readonly string[];
      readonly reference?: string;
      readonly optional?: boolean;
      readonly sensitive?: boolean;
      readonly computed?: boolean;
      readonly generated?: boolean;
      readonly default?: unknown;
      readonly note?: string;
    };

/** Who, where, and exactly one effect on an extent. */
export interface RuleInput {
  /** Met if any entry is met: `anyone`, `signed-in`, a role, `owner`, `above owner`, `above FIELD`. */
  readonly to?: string | readonly string[];
  /** Any entry met takes the person out. */
  readonly except?: string | readonly string[];
  /** A condition on the record (before a change). */
  readonly where?: string | boolean;
  /** A condition on the record after a change; `any` lifts the default, which is `where` again. */
  readonly becomes?: string | boolean;
  readonly permit?: ExtentsInput;
  readonly deny?: ExtentsInput;
  readonly reserve?: ExtentsInput;
  /** What is protected and why; shown to the person who is refused. */
  readonly note?: string;
}

/** An extent for each action: `all`, `yes`, or a list of names, `all`, and `-name` to take one out again. */
export type ExtentsInput = Readonly<Record<string, string | boolean | readonly string[]>>;
