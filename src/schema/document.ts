import type { TableTypes } from "./table-types.js";

/**
 * The document as an application writes it in TypeScript, or as it comes out of YAML or JSON. `compile` checks every
 * part, so a value that was read from a file may be handed over as it is.
 */
export interface DocumentInput {
  /** The version of the format. */
  readonly portier: 1;
  /** IANA name; decides which day `today` is, and when a rule's bare date begins. Default `UTC`. */
  readonly timeZone?: string;
  readonly people?: PeopleInput;
  /** What the application promises to pass with each session: name to type. */
  readonly request?: Readonly<Record<string, string>>;
  readonly roles?: Readonly<Record<string, RoleInput>>;
  readonly groups?: Readonly<Record<string, GroupInput>>;
  readonly screens?: Readonly<Record<string, ScreenInput>>;
  /** Under `"*"` stand rules for every table. */
  readonly tables: Readonly<Record<string, TableInput | EveryTableInput>>;
}

declare const tables: unique symbol;

/** A document whose tables TypeScript knows, as `define` makes it; it is plain data, as any document. */
export type TypedDocument<T extends TableTypes> = DocumentInput & { readonly [tables]?: T };

/** Warnings that `lint` does not raise about a part: the code of each, with the reason. */
export type IgnoreInput = Readonly<Record<string, string>>;

export interface PeopleInput {
  /** The table that holds the persons. */
  readonly table: string;
  /** The field with what to call a person on screens. */
  readonly name?: string;
  /** The field that leads to the person above. */
  readonly manager?: string;
  /** A boolean field; whoever is not `true` meets nothing. */
  readonly active?: string;
  /** Where roles come from: fields of the person (one name or a list of them), and link tables. */
  readonly roles?: string | LinkInput | readonly (string | LinkInput)[];
  /** Roles are also given and taken away by administrators, as data that Portier keeps in tables of its own. */
  readonly assignments?: boolean;
  /** Where it is kept, as data, what one person may do with one field. */
  readonly settings?: SettingsInput;
  readonly ignore?: IgnoreInput;
}

/**
 * A table whose records each set how far one person may go with one field: `none` and `view` take away, `edit` takes nothing
 * away; `view` and `edit` open what the rules do not only where `adds` names the field.
 */
export interface SettingsInput {
  readonly table: string;
  /** A reference to the person. */
  readonly person: string;
  /** The field with the name of the table that a setting is about. */
  readonly on: string;
  /** The field with the name of that table's field. */
  readonly field: string;
  /** The field with the level: `none`, `view` or `edit`. */
  readonly level: string;
  /** The field with the key of the one record that it is about; null there for all. */
  readonly record?: string;
  /** Timestamp fields: it counts while `from <= now < until`. */
  readonly from?: string;
  readonly until?: string;
  /** The roles and groups that may set it. Nobody where none is named. */
  readonly settableBy?: string | readonly string[];
  /** By table, the fields that a setting may open to be viewed, or viewed and edited. */
  readonly adds?: Readonly<
    Record<string, { readonly view?: string | readonly string[]; readonly edit?: string | readonly string[] }>
  >;
}

/** A table whose records each give a person a role, with `on` on one record of the role's scope. */
export interface LinkInput {
  readonly table: string;
  readonly person: string;
  readonly role: string;
  readonly on?: string;
  /** Timestamp fields: it counts while `from <= now < until`. */
  readonly from?: string;
  readonly until?: string;
}

export interface RoleInput {
  /** Roles that whoever holds this one holds, too. */
  readonly include?: readonly string[];
  /** The table on whose records the role is held. */
  readonly scope?: string;
  /** Roles that nobody may hold beside this one. */
  readonly exclusive?: string | readonly string[];
  /** How many persons must hold it: the last ones cannot be taken out. */
  readonly minHolders?: number;
  /** Who may assign it and take it away: roles and groups, or `ROLE of this` on the record on which it is given. */
  readonly assignableBy?: string | readonly string[];
  readonly note?: string;
  readonly ignore?: IgnoreInput;
}

export interface GroupInput {
  /**
   * Any of: a role, a group, either with everybody below or above (`director and below`, `keeper and 2 levels above`),
   * `person KEY`, somebody and everybody below or above them, a condition on the person's own fields.
   */
  readonly members: MemberInput | readonly MemberInput[];
  /** A condition on the person's own fields that members must also meet. */
  readonly where?: string | boolean;
  /** Whoever is one of these is not in the group. */
  readonly without?: MemberInput | readonly MemberInput[];
  /** Roles that members hold. */
  readonly roles?: readonly string[];
  readonly note?: string;
  readonly ignore?: IgnoreInput;
}

/** A page or a part of one; whom it is shown follows from the rules. */
export interface ScreenInput {
  /** `TABLE.ACTION` or `TABLE.ACTION.FIELD`: all of it must be permitted on some record. */
  readonly needs: string | readonly string[];
  /** Roles and groups that alone are shown it. */
  readonly to?: string | readonly string[];
  /** The screen that it is a part of. */
  readonly in?: string;
  /** Roles and groups that land here after signing in. */
  readonly home?: string | readonly string[];
  readonly note?: string;
  readonly ignore?: IgnoreInput;
}

export type MemberInput =
  | string
  | { readonly below: string; readonly levels?: number }
  | { readonly above: string; readonly levels?: number }
  | { readonly where: string };

export interface TableInput {
  readonly note?: string;
  /** The name of the table in the database, where it differs. */
  readonly source?: string;
  /** One field, or several that together name a record. */
  readonly key: string | readonly string[];
  /** A field, or a path of references, that leads to a person or a list of persons. */
  readonly owner?: string;
  readonly fields: Readonly<Record<string, FieldInput>>;
  /** Custom actions on a record, such as `approve`. */
  readonly actions?: readonly string[];
  readonly grid?: GridInput;
  /** Names for cell ranges: `{ heading: "A1:F1" }`. */
  readonly ranges?: Readonly<Record<string, string>>;
  /** Tries the rules out: in a database, decisions about this table are logged, and nothing of it is refused or hidden. */
  readonly observe?: boolean;
  readonly rules?: Readonly<Record<string, RuleInput>>;
  readonly ignore?: IgnoreInput;
}

export interface EveryTableInput {
  /** Every table that does not say `observe: false`. */
  readonly observe?: boolean;
  readonly rules?: Readonly<Record<string, RuleInput>>;
}

export interface GridInput {
  /** The integer field with the row's number, from 1. */
  readonly position: string;
  /** Default: all fields in declared order, without key and position. */
  readonly columns?: readonly string[];
  /** Whether people protect cells of it themselves, at run time; needs `people: { assignments: true }`. */
  readonly protections?: boolean;
}

/** A type's name, or the long form; `choice`, `reference`, `list` and `lookup` imply their type. */
export type FieldInput =
  | string
  | {
      readonly type?: string;
      readonly choice?: readonly string[];
      /** The table referred to. */
      readonly reference?: string;
      /** The fields that hold the key of several fields of the table referred to. */
      readonly by?: readonly string[];
      /** The type of the elements. */
      readonly list?: string | { readonly reference: string } | { readonly choice: readonly string[] };
      /** A value shown through a reference. */
      readonly lookup?: { readonly through: string; readonly field: string };
      readonly optional?: boolean;
      readonly sensitive?: boolean;
      readonly computed?: boolean;
      readonly generated?: boolean;
      readonly tags?: readonly string[];
      readonly default?: unknown;
      /** The name of the column in the database, where it differs. */
      readonly column?: string;
      readonly note?: string;
    };

/** Who, where, and exactly one effect on an extent. */
export interface RuleInput {
  /** Met if any entry is met: `anyone`, `signed-in`, a role or group, `owner`, `above FIELD`, `ROLE of PATH`, `person KEY`. */
  readonly to?: string | readonly string[];
  /** Any entry met takes the person out. */
  readonly except?: string | readonly string[];
  /** A condition on the record (before a change). */
  readonly where?: string | boolean;
  /** The rule of the same table that this one was copied from; lint says when the two differ. */
  readonly copyOf?: string;
  /** A condition on the record after a change; `any` lifts the default, which is `where` again. */
  readonly becomes?: string | boolean;
  /** A deny, reserve or confirm whose `where` holds before or after a change. */
  readonly alsoAfter?: boolean;
  readonly permit?: ExtentsInput;
  readonly deny?: ExtentsInput;
  readonly reserve?: ExtentsInput;
  readonly confirm?: ExtentsInput;
  /** A date (its start in the document's time zone) or timestamp from which the rule is there. */
  readonly from?: string;
  /** A date or timestamp from which the rule is no longer there. */
  readonly until?: string;
  /** Under `"*"`: tables without this rule. */
  readonly skip?: readonly string[];
  /** What is protected and why; shown to the person who is refused, or who must confirm. */
  readonly note?: string;
  readonly ignore?: IgnoreInput;
}

/** An extent for each action. */
export type ExtentsInput = Readonly<Record<string, ExtentInput>>;

/** `all`, `yes`, or a list of names, `first..last`, `tag NAME`, `all`, and `-name` to take one out again; or cells of a grid. */
export type ExtentInput =
  | string
  | boolean
  | readonly string[]
  | { readonly cells: string | readonly string[]; readonly except?: string | readonly string[] };
