import { type Said, shown, suggest, type Unknown } from "./call-messages.js";

const list = (names: readonly string[]): string => names.join(", ");
const ofFields = (fields: readonly string[]): string => (fields.length === 0 ? "" : ` ${list(fields)}`);

/**
 * The messages of warnings: the document is valid, but probably not what its author intended. They are apart from those of
 * errors, so that an application that only decides does not carry these along. Each code has a page in docs/lint.
 */
export const warningMessages = {
  // Without effect
  "unused-role": (f: { role: string }): Said => [
    `role "${f.role}" is used by no rule and includes no other role`,
    "use it in a rule, or remove it",
  ],
  "unused-group": (f: { group: string }): Said => [
    `group "${f.group}" is used by no rule and no other group, and brings no role`,
    "use it in a rule, or remove it",
  ],
  "unreachable-role": (f: { role: string }): Said => [
    `nobody can hold role "${f.role}": no field, link table, group or other role brings it, and nobody may assign it`,
    'add it to the choices of a field that "people" reads roles from, or name who may assign it in "assignableBy"',
  ],
  "table-without-rules": (f: { table: string }): Said => [
    `table "${f.table}" has no rule that permits anything, so nobody may do anything with it`,
    "remove the table, or add permits",
  ],
  "observed-table": (f: { table: string }): Said => [
    `table "${f.table}" is observed: in a database nothing of it is refused or hidden`,
    'remove "observe" once its rules are right; `portier observed LOG` shows what they would refuse',
  ],
  "permit-covers-no-field": (f: { rule: string; action: string }): Said => [
    `rule "${f.rule}" covers no field for ${f.action}`,
    "name sensitive, owner and computed fields: a permit does not cover them otherwise",
  ],
  "condition-never-true": (f: { rule: string }): Said => [`the conditions of rule "${f.rule}" can never be true`],
  "empty-audience": (f: { rule: string; entries: readonly string[] }): Said => [
    `rule "${f.rule}" applies to nobody: "except" removes ${list(f.entries)} again`,
  ],
  "always-denied": (f: {
    rule: string;
    by: string;
    effect: string;
    action: string;
    fields: readonly string[];
  }): Said => [
    `rule "${f.rule}" permits ${f.action}${ofFields(f.fields)} in vain: "${f.by}" ${f.effect === "reserve" ? "reserves it for others" : "always denies it"}`,
    "a permit never wins against a deny or a reserve; narrow one of the two",
  ],
  "null-comparison": (f: { rule: string }): Said => [
    `rule "${f.rule}" compares with null, which is never true`,
    'write "is null" or "is not null"',
  ],
  "unreachable-screen": (f: { screen: string; need: string; who: readonly string[] }): Said => [
    f.who.length === 0
      ? `screen "${f.screen}" needs ${f.need}, which no rule permits to anybody`
      : `screen "${f.screen}" is for ${list(f.who)}, but no rule permits them ${f.need}`,
    "remove the need from the screen, or add the rule",
  ],

  // Too wide
  "open-to-anyone": (f: { rule: string; actions: readonly string[] }): Said => [
    `rule "${f.rule}" lets anyone, even without signing in, ${list(f.actions)}${f.actions.every((one) => ["list", "view", "export"].includes(one)) ? " whole records without a condition" : ""}`,
    "name the intended roles, or restrict the records",
  ],
  "sensitive-for-anyone": (f: { rule: string; fields: readonly string[] }): Said => [
    `rule "${f.rule}" shows sensitive fields to anyone: ${list(f.fields)}`,
    "name the intended roles",
  ],
  "edit-without-view": (f: { table: string; fields: readonly string[]; who: string }): Said => [
    `${shown(f.who)} may edit ${list(f.fields)} of "${f.table}" without being able to see it`,
    "remove the permit to edit, or permit list or view as well",
  ],
  "create-for-another": (f: { rule: string; field: string }): Said => [
    `rule "${f.rule}" lets people create records in another person's name: they may set "${f.field}" to anybody`,
    `leave "${f.field}" out, so that it is set to the current user, or restrict it with "becomes: owner = me"`,
  ],
  "isolation-before-only": (f: { rule: string; fields: readonly string[] }): Said => [
    `rule "${f.rule}" tests ${list(f.fields)} only before a change, and others may edit it: a record can be moved to where the rule would deny it`,
    'add "alsoAfter: true"',
  ],
  "unlistable-reference": (f: { rule: string; who: string; field: string; target: string }): Said => [
    `rule "${f.rule}" lets ${f.who} set "${f.field}", but they may list no record of "${f.target}" to choose from`,
    `leave "${f.field}" out, or permit them to list "${f.target}"`,
  ],
  "overlapping-reserves": (f: { rules: readonly string[]; action: string; fields: readonly string[] }): Said => [
    `rules ${f.rules.join(" and ")} both reserve ${f.action}${f.fields.length === 0 ? "" : ` of ${list(f.fields)}`}, so only people who are in both keep it`,
    "if either is enough, write one rule for both",
  ],
  "overlapping-ranges": (f: { rules: readonly string[]; ranges: readonly string[]; action: string }): Said => [
    `rules ${f.rules.join(" and ")} permit ${f.action} of ${f.ranges.join(" and ")}, which overlap, to different people`,
    "end one range where the other begins, or write one rule for both",
  ],
  "null-in-exists": (f: { rule: string; effect: string; table: string; fields: readonly string[] }): Said => [
    `rule "${f.rule}" relies on ${f.effect === "permit" ? "no record of" : "a record of"} "${f.table}", but ${list(f.fields)} can be null there, and such a record is skipped`,
    'add "or FIELD is null" if it should count',
  ],
  "person-in-rule": (f: { kind: "rule" | "group"; name: string; entry: string }): Said => [
    `${f.kind} "${f.name}" names a person: ${f.entry}`,
    "keys differ between environments; assign a role to the person, and name the role",
  ],
  "record-in-rule": (f: { kind: "rule" | "group"; name: string; table: string; entry: string }): Said => [
    `${f.kind} "${f.name}" names a record of "${f.table}" by its key: ${f.entry}`,
    "keys differ between environments; test a field of that record, or a role that is held on it",
  ],

  // Assigning roles
  "assignable-without-assignments": (f: { role: string }): Said => [
    `role "${f.role}" has "assignableBy", but this document does not keep role assignments`,
    'add "assignments: true" to "people"',
  ],
  "min-holders-not-assignable": (f: { role: string }): Said => [
    `role "${f.role}" has "minHolders", but nobody may assign it`,
    'name who may in "assignableBy"',
  ],

  // With records
  "unknown-role-value": (f: Unknown & { where: string; persons: readonly string[] }): Said => [
    `unknown role ${shown(f.name)} in ${f.where}, so ${list(f.persons)} cannot sign in`,
    suggest(f),
  ],
  "unreadable-protection": (f: { id: string; what: string }): Said => [
    `protection ${shown(f.id)}: ${f.what}`,
    "change or remove it through administration",
  ],
  "unreadable-setting": (f: { person: string; what: string }): Said => [
    `person ${shown(f.person)} cannot sign in: ${f.what}`,
    "correct the setting, or delete it",
  ],
  "role-not-held": (f: { rule: string; roles: readonly string[] }): Said => [
    `rule "${f.rule}" is for ${list(f.roles)}, which nobody in the data holds`,
  ],
  "too-few-holders": (f: { role: string; on: string | undefined; held: number; minHolders: number }): Said => [
    `role "${f.role}"${f.on === undefined ? "" : ` of ${f.on}`} needs ${f.minHolders} ${f.minHolders === 1 ? "holder" : "holders"} and has ${f.held}`,
    "assign it to somebody",
  ],
  "mostly-null-field": (f: { rule: string; field: string; nulls: number; all: number }): Said => [
    `rule "${f.rule}" tests "${f.field}", which is null in ${f.nulls} of ${f.all} records: its condition is never true for these`,
    `add "or ${f.field} is null" if they should count`,
  ],
  "matches-no-record": (f: { rule: string; all: number }): Said => [
    `the condition of rule "${f.rule}" is true for none of ${f.all} records, for anybody it applies to`,
    "check how its values are spelled in the data",
  ],
  "wide-contains": (f: { rule: string; test: string; contains: number; starts: number }): Said => [
    `rule "${f.rule}": ${f.test} matches ${f.contains} records, of which only ${f.starts} begin with the text`,
    'did you mean "starts with"?',
  ],
  "copy-differs": (f: { rule: string; of: string }): Said => [
    `rule "${f.rule}" no longer equals "${f.of}", of which it is a copy`,
    'make the two equal, or remove "copyOf"',
  ],
  "permit-without-screen": (f: { rule: string; actions: readonly string[] }): Said => [
    `rule "${f.rule}" permits ${f.actions.join(", ")}, which no screen needs`,
    "remove it from the rule, or add it to the needs of a screen",
  ],
  "needs-server": (f: { rule: string; tables: readonly string[] }): Said => [
    `a browser cannot decide rule "${f.rule}" by itself: it reads records of ${list(f.tables)}`,
    "what it decides counts as denied there until the server is asked; conditions on the record or the person alone are decided at once",
  ],
  "untested-rule": (f: { rule: string }): Said => [
    `no expectation covers rule "${f.rule}"`,
    "write one, or let `portier test --record` propose some",
  ],

  // About "ignore"
  "unknown-warning": (f: Unknown): Said => [`"ignore" names an unknown warning "${f.name}"`, suggest(f)],
  "unused-ignore": (f: { code: string }): Said => [
    `"ignore" names "${f.code}", but there is no such warning here`,
    "remove it",
  ],
} as const;

/** The codes of all warnings. */
export type WarningCode = keyof typeof warningMessages;
