import type { DocumentTypes } from "./document-types.js";

/**
 * The document as an application writes it in TypeScript, or as it comes out of YAML or JSON. `compile` checks every
 * part, so a value that was read from a file may be handed over as it is.
 */
export interface DocumentInput {
  /** The version of the format. */
  readonly portier: 1;
  /** IANA name; decides which day `today` is, and when a rule's bare date begins. Default `UTC`. */
  readonly timeZone?: string;
  /** The table of users, and where their roles come from. Without it, everybody is a visitor. */
  readonly people?: PeopleInput;
  /** The values that the application passes with each session: name to type, as in `{ site: text }`. */
  readonly request?: Readonly<Record<string, string>>;
  /** What people can hold, by name: `{ keeper: {}, lead: { scope: exhibitions } }`. */
  readonly roles?: Readonly<Record<string, RoleInput>>;
  /** People by a description, by name. */
  readonly groups?: Readonly<Record<string, GroupInput>>;
  /** Pages and parts of pages, by name; whether somebody is shown one follows from the rules. */
  readonly screens?: Readonly<Record<string, ScreenInput>>;
  /** The tables, by name. `"*"` holds rules for every table. */
  readonly tables: Readonly<Record<string, TableInput | EveryTableInput>>;
}

declare const tables: unique symbol;

/** A document whose tables TypeScript knows, as `define` makes it; it is plain data, as any document. */
export type TypedDocument<T extends DocumentTypes> = DocumentInput & { readonly [tables]?: T };

/** Warnings that `lint` does not raise about a part: the code of each, with the reason. */
export type IgnoreInput = Readonly<Record<string, string>>;

/** The table of users, and where their roles come from. */
export interface PeopleInput {
  /** The table whose records are the people. Its key is one field. */
  readonly table: string;
  /** The field with the name of a person, for pages and reports. Default: their key. */
  readonly name?: string;
  /** The reference to the person above, for `above`, `below` and lines of managers. */
  readonly manager?: string;
  /** A boolean field: who is not `true` there may do nothing at all. Default: everybody is active. */
  readonly active?: string;
  /** Where roles come from: fields of the person that hold a role or a list of them, and link tables. */
  readonly roles?: string | LinkInput | readonly (string | LinkInput)[];
  /** Whether administrators also assign and revoke roles, as data in tables of Portier. Default: no. */
  readonly assignments?: boolean;
  /** The table that sets, as data, what one person may do with one field. */
  readonly settings?: SettingsInput;
  /** Warnings to ignore, each with a reason. */
  readonly ignore?: IgnoreInput;
}

/**
 * A table whose records each set how far one person may go with one field: `none` and `view` deny, `edit` denies nothing;
 * `view` and `edit` open what the rules do not only where `adds` names the field.
 */
export interface SettingsInput {
  /** The table whose records are the settings. */
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
  /** A timestamp field: the setting counts from then on (inclusive). */
  readonly from?: string;
  /** A timestamp field: the setting counts until then (exclusive). */
  readonly until?: string;
  /** The roles and groups that may set it. Default: nobody. */
  readonly settableBy?: string | readonly string[];
  /** By table, the fields that a setting may open to be viewed, or viewed and edited. */
  readonly adds?: Readonly<
    Record<string, { readonly view?: string | readonly string[]; readonly edit?: string | readonly string[] }>
  >;
}

/** A link table: each of its records assigns a role to a person, with `on` on one record of the role's scope. */
export interface LinkInput {
  /** The link table. */
  readonly table: string;
  /** Its reference to the person. */
  readonly person: string;
  /** Its field with the name of the role. */
  readonly role: string;
  /** Its reference to the record on which a scoped role is held. */
  readonly on?: string;
  /** A timestamp field: the role counts from then on (inclusive). */
  readonly from?: string;
  /** A timestamp field: the role counts until then (exclusive). */
  readonly until?: string;
}

/** Something that people can hold. `{}` is enough. */
export interface RoleInput {
  /** Roles that come with this one. */
  readonly include?: readonly string[];
  /** The table on whose records the role is held, as the lead of one exhibition. Without it, the role is global. */
  readonly scope?: string;
  /** Roles that nobody may hold together with this one. */
  readonly exclusive?: string | readonly string[];
  /** How many people must keep the role: the last ones cannot lose it. Default: 0. */
  readonly minHolders?: number;
  /** Who may assign and revoke the role: roles, groups, or `ROLE of this` on the same record. Default: nobody. */
  readonly assignableBy?: string | readonly string[];
  /** What the role is for; shown in reports and where roles are assigned. */
  readonly note?: string;
  /** Warnings to ignore, each with a reason. */
  readonly ignore?: IgnoreInput;
}

/** People by a description. */
export interface GroupInput {
  /**
   * Any of: a role, a group, either with everybody below or above (`director and below`, `keeper and 2 levels above`),
   * `person KEY`, somebody and everybody below or above them, a condition on the person's own fields.
   */
  readonly members: MemberInput | readonly MemberInput[];
  /** A condition on the person's own fields that must also be true of members. */
  readonly where?: string | boolean;
  /** People to leave out, described as members are. */
  readonly without?: MemberInput | readonly MemberInput[];
  /** Roles that members hold. */
  readonly roles?: readonly string[];
  /** What the group is for; shown in reports. */
  readonly note?: string;
  /** Warnings to ignore, each with a reason. */
  readonly ignore?: IgnoreInput;
}

/** A page or a part of one; whom it is shown follows from the rules. */
export interface ScreenInput {
  /** `TABLE.ACTION` or `TABLE.ACTION.FIELD`: all of it must be permitted on some record. */
  readonly needs: string | readonly string[];
  /** The roles and groups that it is for. Default: everybody who may do what it needs. */
  readonly to?: string | readonly string[];
  /** The screen that it is a part of: shown only where that is. */
  readonly in?: string;
  /** The roles and groups that start here after signing in. */
  readonly home?: string | readonly string[];
  /** What the screen is for; shown in reports. */
  readonly note?: string;
  /** Warnings to ignore, each with a reason. */
  readonly ignore?: IgnoreInput;
}

/** A role, a group, `person KEY`, either with a line of managers; or a line or condition in the long form. */
export type MemberInput =
  | string
  | { readonly below: string; readonly levels?: number }
  | { readonly above: string; readonly levels?: number }
  | { readonly where: string };

/** A table: its fields, who owns its records, and its rules. */
export interface TableInput {
  /** What people call the table, on pages and in reports. Default: made from its name, `loan_items` as "Loan items". */
  readonly label?: string;
  /** What the table holds; shown in reports. */
  readonly note?: string;
  /** The name of the table in the database. Default: the name here. */
  readonly source?: string;
  /** The field that identifies a record, or several that do together. */
  readonly key: string | readonly string[];
  /** The field, or the path of references, that leads to the person or people who own a record. */
  readonly owner?: string;
  /** The fields, by name: a type, or the long form. */
  readonly fields: Readonly<Record<string, FieldInput>>;
  /** Custom actions on a record, such as `approve`. */
  readonly actions?: readonly string[];
  /** Makes the table a sheet of rows and lettered columns, for rules on cells. */
  readonly grid?: GridInput;
  /** Names for cell ranges: `{ heading: "A1:F1" }`. */
  readonly ranges?: Readonly<Record<string, string>>;
  /** Tries the rules out: in a database, decisions about this table are logged, and nothing of it is refused or hidden. */
  readonly observe?: boolean;
  /** The rules, by name. What no rule permits is denied. */
  readonly rules?: Readonly<Record<string, RuleInput>>;
  /** Warnings to ignore, for the table and its rules, each with a reason. */
  readonly ignore?: IgnoreInput;
}

/** What holds for every table. */
export interface EveryTableInput {
  /** Observes every table that does not say `observe: false`. */
  readonly observe?: boolean;
  /** Rules of every table, by name; a rule leaves tables out with `skip`. */
  readonly rules?: Readonly<Record<string, RuleInput>>;
}

/** A sheet: one field holds the row, the others are columns. */
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
      /** `text`, `integer`, `decimal`, `boolean`, `date`, `timestamp` or `json`. */
      readonly type?: string;
      /** The closed list of values of a choice. */
      readonly choice?: readonly string[];
      /** The table that the reference leads to. */
      readonly reference?: string;
      /** For a composite reference: the fields that hold the key of the other table, in its order. */
      readonly by?: readonly string[];
      /** The type of the elements. */
      readonly list?: string | { readonly reference: string } | { readonly choice: readonly string[] };
      /** A field of the record that a reference leads to, shown as a field of this one. */
      readonly lookup?: { readonly through: string; readonly field: string };
      /** Of a timestamp whose column holds no zone: the one that its values are of. Default: they say it themselves. */
      readonly zone?: "UTC";
      /** Whether it may be null. Default: no. */
      readonly optional?: boolean;
      /** Whether `all` leaves it out, so that a permit must name it. Default: no. */
      readonly sensitive?: boolean;
      /** Whether the application or the database computes it, so that nobody edits it. Default: no. */
      readonly computed?: boolean;
      /** Whether the database fills it in where it is not given. Default: no. */
      readonly generated?: boolean;
      /** Names under which rules mean several fields at once: `tag NAME`. */
      readonly tags?: readonly string[];
      /** The value of a new record: a value, or `me`, `me.FIELD`, `today`, `now`. */
      readonly default?: unknown;
      /** The name of the column in the database. Default: the name here. */
      readonly column?: string;
      /** What people call the field, on pages, in messages and reports. Default: made from its name, `made_in` as "Made in". */
      readonly label?: string;
      /** What the field holds; shown in reports. */
      readonly note?: string;
    };

/** Who, where, and exactly one effect on an extent. */
export interface RuleInput {
  /** To whom it applies, any of: a role or group, `owner`, `ROLE of PATH`, `above FIELD`, `signed-in`, `person KEY`, `anyone`. */
  readonly to?: string | readonly string[];
  /** To whom it does not apply, any of the same entries. */
  readonly except?: string | readonly string[];
  /** A condition on the record, before a change: `department = me.department`. Default: every record. */
  readonly where?: string | boolean;
  /** The rule of the same table that this one was copied from; lint says when the two differ. */
  readonly copyOf?: string;
  /** A condition on the record after a change. Default: for a permit `where` again, which `any` lifts. */
  readonly becomes?: string | boolean;
  /** Whether a deny, reserve or confirm tests `where` after a change, too, as isolation needs. Default: no. */
  readonly alsoAfter?: boolean;
  /** They may do it: for each action its extent, as in `{ view: all, edit: [label] }`. */
  readonly permit?: ExtentsInput;
  /** They may not, whatever permits it. Without `to`: nobody may. */
  readonly deny?: ExtentsInput;
  /** Nobody else may, whatever permits it. It permits nothing itself. */
  readonly reserve?: ExtentsInput;
  /** They must confirm the note first. */
  readonly confirm?: ExtentsInput;
  /** A date (its start in the document's time zone) or timestamp from which the rule is in force. */
  readonly from?: string;
  /** A date or timestamp from which the rule is no longer in force. */
  readonly until?: string;
  /** Under `"*"`: tables that this rule leaves out. */
  readonly skip?: readonly string[];
  /** What is protected and why; shown to the person who is refused, or who must confirm. */
  readonly note?: string;
  /** Warnings to ignore, each with a reason. */
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
