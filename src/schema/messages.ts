import { callMessages, type Said, shown, suggest, type Unknown } from "./call-messages.js";
import { nearest } from "./nearest.js";

function suggestRange({ found, names }: { found: string; names: readonly string[] }): string {
  const near = nearest(found, names);
  return near === undefined ? "write B2:F40, C7, G:G, 2:2, A2:E or H:" : `did you mean the range "${near}"?`;
}

const article = (word: string): string => (/^[aeiou]/.test(word) ? `an ${word}` : `a ${word}`);

/** Every message of a problem, by its code. Facts in, words out; nothing else in Portier words a problem. */
export const messages = {
  ...callMessages,

  // Shape of a document
  "wrong-shape": (f: { what: string; expected: string; found: unknown }): Said => [
    `${f.what} must be ${f.expected}, not ${shown(f.found)}`,
  ],
  "missing-key": (f: { what: string; key: string; hint?: string }): Said => [`${f.what} needs "${f.key}"`, f.hint],
  "unknown-key": (f: Unknown & { what: string }): Said => [`unknown key "${f.name}" in ${f.what}`, suggest(f)],
  "bad-name": (f: { what: string; name: string; rule: string }): Said => [
    `${shown(f.name)} is not a valid name for ${f.what}`,
    f.rule,
  ],
  "duplicate-name": (f: { what: string; name: string }): Said => [
    `duplicate ${f.what} "${f.name}"`,
    "rename one of them",
  ],
  "too-large": (f: { what: string; limit: number }): Said => [
    `${f.what}: more than the limit of ${f.limit}`,
    "split the document",
  ],
  "unknown-version": (f: { found: unknown }): Said => [
    `"portier" must be 1, the version of the format, not ${shown(f.found)}`,
    'begin with "portier: 1"',
  ],
  "bad-time-zone": (f: { name: string }): Said => [
    `unknown time zone ${shown(f.name)}`,
    "use a name such as Europe/Lisbon or UTC",
  ],

  // Tables and fields
  "unknown-type": (f: Unknown): Said => [`unknown field type "${f.name}"`, suggest(f)],
  "untyped-field": (f: { name: string }): Said => [
    `field "${f.name}" needs a type`,
    "add one of type, choice or reference",
  ],
  "key-reference": (f: { table: string; why: "several" | "person" }): Said =>
    f.why === "several"
      ? [
          `table "${f.table}" has a key of several fields, which one field cannot hold`,
          `name the fields that hold it: { reference: ${f.table}, by: [...] }`,
        ]
      : [`table "${f.table}" holds people, so its key must be one field, not several`],
  "reference-by": (f: { table: string; key: readonly string[] }): Said => [
    f.key.length > 1
      ? `a reference to "${f.table}" needs one field for each field of its key: ${f.key.join(", ")}`
      : `table "${f.table}" has a key of one field, so a reference to it needs no "by"`,
    f.key.length > 1 ? `list ${f.key.length} fields in "by", in that order` : 'remove "by"',
  ],
  "circular-type": (f: { table: string; field: string }): Said => [
    `the type of "${f.field}" of "${f.table}" depends on itself`,
  ],
  "ambiguous-type": (f: { name: string; found: readonly string[] }): Said => [
    `field "${f.name}" has more than one type: ${f.found.join(", ")}`,
    "keep one of them",
  ],
  "no-grid": (f: { table: string }): Said => [
    `table "${f.table}" is not a grid, so it has no cells`,
    'add "grid: { position: FIELD }"',
  ],
  "protections-not-kept": (f: { table: string }): Said => [
    `table "${f.table}" keeps protections of cells, but this document does not keep role assignments`,
    'add "assignments: true" to "people"',
  ],
  "protect-reads-record": (f: { rule: string }): Said => [
    `rule "${f.rule}" tests fields, but who may protect cells must not depend on what stands in them`,
    'move "protect" to a rule of its own without such a condition',
  ],
  "bad-range": (f: { found: string; names: readonly string[] }): Said => [
    `${shown(f.found)} is not a cell range`,
    suggestRange(f),
  ],
  "range-outside": (f: { found: string; last: string }): Said => [
    `range ${shown(f.found)} ends beyond the last column, ${f.last}`,
    `end it at ${f.last}, or leave it open as in "B:"`,
  ],
  "bad-default": (f: { field: string; expects: string; found: unknown }): Said => [
    `the default of "${f.field}" must be ${f.expects}, not ${shown(f.found)}`,
  ],
  "not-a-reference": (f: { table: string; field: string; label: string }): Said => [
    `"${f.field}" of "${f.table}" is ${article(f.label)}, not a reference, so nothing can be read through it`,
  ],
  "not-a-person": (f: { what: string; people: string | undefined }): Said =>
    f.people === undefined
      ? [`${f.what} must lead to a person, but the document names no people table`, 'add "people: { table: ... }"']
      : [`${f.what} must lead to a record of "${f.people}"`],
  "wrong-field-type": (f: { field: string; use: string; expected: string; label: string }): Said => [
    `"${f.field}" is ${article(f.label)}, but ${f.use} needs ${f.expected}`,
  ],

  // Roles and who
  "setting-choice": (f: Unknown & { field: string }): Said => [
    `"${f.name}" in "${f.field}" is not a table or field that a setting can be about`,
    suggest(f),
  ],
  "setting-field": (f: { field: string; why: string }): Said => [
    `a setting cannot open ${f.why}: "${f.field}"`,
    "leave it out",
  ],
  "unknown-who": (f: Unknown): Said => [`unknown role or group "${f.name}"`, suggest(f)],
  "circular-reference": (f: { what: "roles" | "groups and roles" | "may"; names: readonly string[] }): Said => [
    f.what === "may"
      ? `"may" depends on itself: ${f.names.join(" -> ")}`
      : `${f.what} ${f.what === "roles" ? "include each other" : "depend on each other"} in a circle: ${f.names.join(" -> ")}`,
    "remove one of these steps",
  ],
  "include-across-scopes": (f: { role: string; scope: string | undefined }): Said => [
    f.scope === undefined
      ? `role "${f.role}" is a global role, so a scoped role cannot include it`
      : `role "${f.role}" is held on records of "${f.scope}", so a role of another scope cannot include it`,
  ],
  "exclusive-roles": (f: { what: string; roles: readonly string[] }): Said => [
    f.roles.length === 1
      ? `${f.what} excludes itself`
      : `${f.what} brings roles that exclude each other: ${f.roles.join(" and ")}`,
    f.roles.length === 1 ? undefined : "nobody may hold both, so nobody could hold this",
  ],
  "scoped-role": (f: { role: string; scope: string }): Said => [
    `role "${f.role}" is held on records of "${f.scope}", so a record must be named`,
    `write "${f.role} of PATH"`,
  ],
  "unscoped-role": (f: { role: string }): Said => [
    `role "${f.role}" is a global role and not held on a record`,
    `write "${f.role}" alone, or give the role a scope`,
  ],
  "no-owner": (f: { table: string }): Said => [
    `table "${f.table}" has no owner`,
    'name the field that leads to the person: "owner: FIELD"',
  ],
  "no-manager": (f: { what: string }): Said => [
    `${f.what} needs a manager line, but "people" names no manager field`,
    'name it: "people: { manager: FIELD }"',
  ],

  // Rules
  "missing-effect": (f: { rule: string; effects: readonly string[] }): Said => [
    `rule "${f.rule}" has no effect`,
    `add one of ${f.effects.join(", ")}`,
  ],
  "several-effects": (f: { rule: string; found: readonly string[] }): Said => [
    `rule "${f.rule}" has several effects: ${f.found.join(", ")}`,
    "write one rule for each",
  ],
  "missing-to": (f: { rule: string; effect: string }): Said => [
    `rule "${f.rule}" needs "to"`,
    `name the roles or groups for ${article(f.effect)}, "signed-in" or "owner"`,
  ],
  "wrong-extent": (f: { action: string; found: unknown; expected: string }): Said => [
    `${shown(f.found)} is not an extent of ${f.action}`,
    `write ${f.expected}`,
  ],
  "computed-edit": (f: { field: string; action: string }): Said => [
    `field "${f.field}" is computed, so nobody can be permitted to ${f.action} it`,
  ],
  "denied-key": (f: { action: string }): Said => [
    `the key cannot be denied for ${f.action} alone: it is seen whenever any field is`,
    "deny the other fields as well, or remove the key from the list",
  ],
  "misplaced-becomes": (f: { actions: readonly string[] }): Said => [
    `"becomes" is about a change, but this rule covers ${f.actions.join(", ")}`,
    "move these to a rule of their own",
  ],

  "unknown-tag": (f: Unknown & { table: string }): Said => [
    `no field of table "${f.table}" has the tag "${f.name}"`,
    suggest(f),
  ],
  "misplaced-confirm": (f: { action: string }): Said => [
    `"confirm" is for changes and custom actions, not for ${f.action}`,
    "deny or reserve it instead",
  ],
  "misplaced-also-after": (f: { why: "permit" | "becomes" }): Said => [
    f.why === "permit"
      ? '"alsoAfter" is for deny, reserve and confirm: a permit always tests both before and after'
      : '"alsoAfter" and "becomes" exclude each other: "alsoAfter" tests "where" again after the change',
    "remove it",
  ],
  "empty-period": (f: { rule: string }): Said => [`rule "${f.rule}" ends before it begins`],

  // Screens
  "bad-need": (f: { found: string }): Said => [
    `${shown(f.found)} is not a need of a screen`,
    "write TABLE.ACTION or TABLE.ACTION.FIELD, such as objects.edit.label",
  ],
  "unknown-screen": (f: Unknown): Said => [`unknown screen "${f.name}"`, suggest(f)],

  // Conditions
  "condition-syntax": (f: { found: string; expected: string }): Said => [`expected ${f.expected}, found ${f.found}`],
  "condition-depth": (f: { limit: number }): Said => [
    `the condition is nested more than ${f.limit} levels deep`,
    "split it into several rules or groups",
  ],
  "type-mismatch": (f: { left: string; right: string; op: string }): Said => [
    `${article(f.left)} cannot be compared with ${article(f.right)} by "${f.op}"`,
  ],
  "not-ordered": (f: { label: string; op: string }): Said => [
    `${article(f.label)} has no order, so "${f.op}" cannot compare it`,
    "use =, <> or in",
  ],
  "unknown-choice": (f: Unknown & { field: string }): Said => [`"${f.name}" is not a value of ${f.field}`, suggest(f)],
  "not-a-list": (f: { field: string }): Said => [
    `field "${f.field}" is not a list`,
    "write the values in parentheses: in ('a', 'b')",
  ],
  "bad-literal": (f: { expects: string; found: string }): Said => [`${f.found} is not ${f.expects}`],
  "bad-duration": (f: { label: string; unit: string }): Said => [
    `${f.unit} cannot be added to ${article(f.label)}`,
    "use days with dates and timestamps, hours and minutes with timestamps only",
  ],
  "misplaced-member": (f: { name: string }): Said => [
    `"is ${f.name}" cannot be used here`,
    "it tests who somebody is, and this condition may test values only",
  ],
  "misplaced-may": (_: object): Said => [
    '"may" cannot be used here',
    "it tests a record, and this condition is about a person",
  ],

  // Text files
  "file-missing": (f: { file: string; why: string }): Said => [`cannot read ${f.file}: ${f.why}`],
  "not-yaml": (f: { why: string }): Said => [`not valid YAML: ${f.why}`],
  "not-json": (f: { why: string }): Said => [`not valid JSON: ${f.why}`],
  "not-csv": (f: { why: string }): Said => [
    `not valid CSV: ${f.why}`,
    "write the field names in the first line, and one cell for each in every other line",
  ],
  "alias-limit": (f: { limit: number }): Said => [
    `aliases expand to more than ${f.limit} copies`,
    "write the parts out",
  ],

  // Data
  "more-problems": (f: { limit: number }): Said => [
    `stopped after ${f.limit} problems; there may be more`,
    "fix these first",
  ],
  "duplicate-record": (f: { table: string; key: string }): Said => [
    `duplicate key ${shown(f.key)} in table "${f.table}"`,
  ],
  "unknown-person": (f: Unknown): Said => [`unknown person "${f.name}"`, suggest(f)],
  "unknown-rule": (f: Unknown): Said => [`unknown rule "${f.name}"`, suggest(f)],
  "unknown-record": (f: Unknown & { table: string }): Said => [
    `table "${f.table}" has no record "${f.name}"`,
    suggest(f),
  ],
} as const;
