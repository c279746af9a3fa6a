import { type Said, shown, suggest, type Unknown } from "./call-messages.js";

const list = (names: readonly string[]): string => names.join(", ");
const ofFields = (fields: readonly string[]): string => (fields.length === 0 ? "" : ` ${list(fields)}`);

/**
 * The sentences of doubts: the document is right, but probably not what was meant. They are apart from those about
 * mistakes, so that an application that only decides does not carry these along. Each code has a page in docs/lint.
 */
export const warningMessages = {
  // Without effect
  "unused-role": (f: { role: string }): Said => [
    `role "${f.role}" appears in no rule and brings no other role`,
    "give it something to do, or drop it",
  ],
  "unused-group": (f: { group: string }): Said => [
    `group "${f.group}" appears in no rule and no other group, and brings no role`,
    "give it something to do, or drop it",
  ],
  "unreachable-role": (f: { role: string }): Said => [
    `nobody can come to hold role "${f.role}": no field, link table, group or other role brings it, and nobody may give it`,
    'add it to the choices of a field that "people" reads roles from, or say who gives it: "assignableBy"',
  ],
  "table-without-rules": (f: { table: string }): Said => [
    `table "${f.table}" has no rule that permits anything, so nobody may do anything with it`,
    "add permits, or leave the table out",
  ],
  "observed-table": (f: { table: string }): Said => [
    `table "${f.table}" is observed: in a database nothing of it is refused or hidden`,
    'take "observe" out once its rules are right; `portier observed LOG` says what they would refuse',
  ],
  "permit-covers-no-field": (f: { rule: string; action: string }): Said => [
    `rule "${f.rule}" covers no field for ${f.action}`,
    "a permit covers sensitive, owner and computed fields only by their names",
  ],
  "condition-never-true": (f: { rule: string }): Said => [`the conditions of rule "${f.rule}" can never be met`],
  "empty-audience": (f: { rule: string; entries: readonly string[] }): Said => [
    `rule "${f.rule}" is for nobody: "except" takes out ${list(f.entries)} again`,
  ],
  "always-denied": (f: {
    rule: string;
    by: string;
    effect: string;
    action: string;
    fields: readonly string[];
  }): Said => [
    `what rule "${f.rule}" permits to ${f.action}${ofFields(f.fields)} is ${f.effect === "reserve" ? "kept" : "always stopped"} by "${f.by}"${f.effect === "reserve" ? " for others" : ""}`,
    "a permit cannot win against a deny or a reserve; narrow one of the two",
  ],
  "null-comparison": (f: { rule: string }): Said => [
    `rule "${f.rule}" compares with null, which is never true`,
    'write "is null" or "is not null"',
  ],
  "unreachable-screen": (f: { screen: string; need: string; who: readonly string[] }): Said => [
    f.who.length === 0
      ? `screen "${f.screen}" needs ${f.need}, which no rule permits to anybody`
      : `screen "${f.screen}" is for ${list(f.who)}, but no rule permits them ${f.need}`,
    "add the rule, or take it off the screen",
  ],

  // Too wide
  "open-to-anyone": (f: { rule: string; actions: readonly string[] }): Said => [
    `rule "${f.rule}" lets anyone, also who is not signed in, ${list(f.actions)}${f.actions.every((one) => ["list", "view", "export"].includes(one)) ? " whole records without a condition" : ""}`,
    "name the roles that are meant, or say which records",
  ],
  "sensitive-for-anyone": (f: { rule: string; fields: readonly string[] }): Said => [
    `rule "${f.rule}" shows sensitive fields to anyone: ${list(f.fields)}`,
    "name the roles that are meant",
  ],
  "edit-without-view": (f: { table: string; fields: readonly string[]; who: string }): Said => [
    `${f.who} may edit ${list(f.fields)} of "${f.table}" without ever seeing it`,
    "permit list or view of it as well, if that is not meant",
  ],
  "create-for-another": (f: { rule: string; field: string }): Said => [
    `by rule "${f.rule}" one can make a record in another's name: "${f.field}" is free`,
    `leave "${f.field}" out, so that it becomes the current user, or say which: "becomes: owner = me"`,
  ],
  "isolation-before-only": (f: { rule: string; fields: readonly string[] }): Said => [
    `rule "${f.rule}" looks at ${list(f.fields)} before a change alone, and others may edit it: a record can be moved to where the rule would stop it`,
    'add "alsoAfter: true"',
  ],
  "unlistable-reference": (f: { rule: string; who: string; field: string; target: string }): Said => [
    `by rule "${f.rule}" ${f.who} may set "${f.field}" but list no record of "${f.target}" to choose from`,
    `permit them to list "${f.target}", or take "${f.field}" out`,
  ],
  "overlapping-reserves": (f: { rules: readonly string[]; action: string; fields: readonly string[] }): Said => [
    `${f.rules.join(" and ")} both reserve ${f.action}${f.fields.length === 0 ? "" : ` of ${list(f.fields)}`}, so only who is in both keeps it`,
    "if either is enough, write one rule for both",
  ],
  "overlapping-ranges": (f: { rules: readonly string[]; ranges: readonly string[]; action: string }): Said => [
    `${f.rules.join(" and ")} both permit to ${f.action} ${f.ranges.join(" and ")}, which overlap, to different people`,
    "draw the border where one ends, or say in one rule that both may",
  ],
  "null-in-exists": (f: { rule: string; effect: string; table: string; fields: readonly string[] }): Said => [
    `rule "${f.rule}" relies on ${f.effect === "permit" ? "no record of" : "a record of"} "${f.table}", but ${list(f.fields)} can be null there, and such a record is passed over`,
    'add "or FIELD is null" if it should count',
  ],
  "person-in-rule": (f: { kind: "rule" | "group"; name: string; entry: string }): Said => [
    `${f.kind} "${f.name}" names a person: ${f.entry}`,
    "a key does not travel between environments; give the person a role, and name that",
  ],
  "record-in-rule": (f: { kind: "rule" | "group"; name: string; table: string; entry: string }): Said => [
    `${f.kind} "${f.name}" names a record of "${f.table}" by its key: ${f.entry}`,
    "a key does not travel between environments; ask for a field of that record, or for a role that is held on it",
  ],

  // Giving roles
  "assignable-without-assignments": (f: { role: string }): Said => [
    `role "${f.role}" says who gives it, but roles are not assigned in this document`,
    'add "assignments: true" to "people"',
  ],
  "min-holders-not-assignable": (f: { role: string }): Said => [
    `role "${f.role}" must be held by somebody, but nobody may give it`,
    'name who does: "assignableBy"',
  ],

  // With records
  "unknown-role-value": (f: Unknown & { where: string; persons: readonly string[] }): Said => [
    `${shown(f.name)} in ${f.where} is no role, so ${list(f.persons)} cannot sign in`,
    suggest(f),
  ],
  "unreadable-protection": (f: { id: string; what: string }): Said => [
    `the protection ${f.id}: ${f.what}`,
    "change it with administration, or take it away",
  ],
  "unreadable-setting": (f: { person: string; what: string }): Said => [
    `${f.person} cannot sign in: ${f.what}`,
    "correct it, or take it away",
  ],
  "role-not-held": (f: { rule: string; roles: readonly string[] }): Said => [
    `rule "${f.rule}" is for ${list(f.roles)}, which nobody in the data holds`,
  ],
  "too-few-holders": (f: { role: string; on: string | undefined; held: number; minHolders: number }): Said => [
    `role "${f.role}"${f.on === undefined ? "" : ` of ${f.on}`} must be held by ${f.minHolders}, and is held by ${f.held}`,
    "give it to somebody",
  ],
  "mostly-null-field": (f: { rule: string; field: string; nulls: number; all: number }): Said => [
    `rule "${f.rule}" asks about "${f.field}", which is null in ${f.nulls} of ${f.all} records: they never meet it`,
    `add "or ${f.field} is null" if they should`,
  ],
  "matches-no-record": (f: { rule: string; all: number }): Said => [
    `rule "${f.rule}" has a condition that none of ${f.all} records meets for anybody it is for`,
    "is a value spelled otherwise in the data?",
  ],
  "wide-contains": (f: { rule: string; test: string; contains: number; starts: number }): Said => [
    `rule "${f.rule}": ${f.test} is met by ${f.contains} records, of which ${f.starts} begin with it`,
    'was "starts with" meant?',
  ],
  "copy-differs": (f: { rule: string; of: string }): Said => [
    `rule "${f.rule}" is no copy of "${f.of}" any more`,
    "take copyOf out, or make the two alike",
  ],
  "permit-without-screen": (f: { rule: string; actions: readonly string[] }): Said => [
    `rule "${f.rule}" permits ${f.actions.join(", ")}, and no screen uses that`,
    "add it to the needs of a screen, or take it out of the rule",
  ],
  "needs-server": (f: { rule: string; tables: readonly string[] }): Said => [
    `a browser cannot answer rule "${f.rule}" by itself: it reads records of ${list(f.tables)}`,
    "what it decides counts as locked there until the server is asked; a condition on the record or the person alone is answered at once",
  ],
  "untested-rule": (f: { rule: string }): Said => [
    `no expectation bears on rule "${f.rule}"`,
    "write one that it decides, or let portier test --record propose some",
  ],

  // About what is meant
  "unknown-warning": (f: Unknown): Said => [`"ignore" speaks of "${f.name}", which no doubt is called`, suggest(f)],
  "unused-ignore": (f: { code: string }): Said => [
    `"ignore" silences "${f.code}", which is not doubted here`,
    "take it out",
  ],
} as const;

/** What a doubt can be about. */
export type WarningCode = keyof typeof warningMessages;
