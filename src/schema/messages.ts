import { callMessages, type Said, shown, suggest, type Unknown } from "./call-messages.js";
import { nearest } from "./nearest.js";

function suggestRange({ found, names }: { found: string; names: readonly string[] }): string {
  const near = nearest(found, names);
  return near === undefined ? "write B2:F40, C7, G:G, 2:2, A2:E or H:" : `did you mean the range "${near}"?`;
}

const article = (word: string): string => (/^[aeiou]/.test(word) ? `an ${word}` : `a ${word}`);

/** Every sentence of a problem, by its code. Facts in, words out; nothing else in Portier words a problem. */
export const messages = {
  ...callMessages,

  // Shape of a document
  "wrong-shape": (f: { what: string; expected: string; found: unknown }): Said => [
    `${f.what} must be ${f.expected}, not ${shown(f.found)}`,
  ],
  "missing-key": (f: { what: string; key: string; hint?: string }): Said => [`${f.what} lacks "${f.key}"`, f.hint],
  "unknown-key": (f: Unknown & { what: string }): Said => [`${f.what} knows no key "${f.name}"`, suggest(f)],
  "bad-name": (f: { what: string; name: string; rule: string }): Said => [
    `${f.what} cannot be called ${shown(f.name)}`,
    f.rule,
  ],
  "duplicate-name": (f: { what: string; name: string }): Said => [`${f.what} "${f.name}" is there twice`],
  "too-large": (f: { what: string; limit: number }): Said => [`${f.what}: more than ${f.limit}`, "split the document"],
  "unknown-version": (f: { found: unknown }): Said => [
    `this is not a document of format 1: "portier" is ${shown(f.found)}`,
    'begin with "portier: 1"',
  ],
  "bad-time-zone": (f: { name: string }): Said => [
    `there is no time zone ${shown(f.name)}`,
    "give a name such as Europe/Lisbon or UTC",
  ],

  // Tables and fields
  "unknown-type": (f: Unknown): Said => [`there is no field type "${f.name}"`, suggest(f)],
  "untyped-field": (f: { name: string }): Said => [
    `field "${f.name}" has no type`,
    "give one of type, choice or reference",
  ],
  "key-reference": (f: { table: string; why: "several" | "person" }): Said =>
    f.why === "several"
      ? [
          `"${f.table}" has a key of several fields, which one field cannot hold`,
          `name the fields that hold it: { reference: ${f.table}, by: [...] }`,
        ]
      : [`persons are named by one field, but "${f.table}" has a key of several`],
  "reference-by": (f: { table: string; key: readonly string[] }): Said => [
    f.key.length > 1
      ? `a reference to "${f.table}" needs one field for each of its key: ${f.key.join(", ")}`
      : `"${f.table}" has a key of one field`,
    f.key.length > 1 ? `give ${f.key.length} fields in "by", in that order` : 'leave "by" out',
  ],
  "circular-type": (f: { table: string; field: string }): Said => [
    `the type of "${f.field}" of "${f.table}" leads back to itself`,
  ],
  "ambiguous-type": (f: { name: string; found: readonly string[] }): Said => [
    `field "${f.name}" has two types: ${f.found.join(", ")}`,
    "keep one of them",
  ],
  "no-grid": (f: { table: string }): Said => [
    `table "${f.table}" is no grid, so it has no cells`,
    'add "grid: { position: FIELD }"',
  ],
  "protections-not-kept": (f: { table: string }): Said => [
    `cells of "${f.table}" are protected as data, and nothing says where that is kept`,
    'add "assignments: true" to "people"',
  ],
  "protect-reads-record": (f: { rule: string }): Said => [
    `rule "${f.rule}" asks something of the record, but who may protect cells depends on the cells alone`,
    "give the rule another one of its own, with no condition on fields",
  ],
  "bad-range": (f: { found: string; names: readonly string[] }): Said => [
    `${shown(f.found)} is no cell range`,
    suggestRange(f),
  ],
  "range-outside": (f: { found: string; last: string }): Said => [
    `the range ${shown(f.found)} reaches beyond the last column, ${f.last}`,
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
    `"${f.name}" in "${f.field}" is nothing that a setting can be about`,
    suggest(f),
  ],
  "setting-field": (f: { field: string; why: string }): Said => [
    `no setting can open ${f.why}: "${f.field}"`,
    "leave it out",
  ],
  "unknown-who": (f: Unknown): Said => [`"${f.name}" is no role and nothing else that a rule can be for`, suggest(f)],
  "circular-reference": (f: { what: "roles" | "groups and roles" | "may"; names: readonly string[] }): Said => [
    f.what === "may"
      ? `these answers ask for each other in a circle: ${f.names.join(" -> ")}`
      : `${f.what} ${f.what === "roles" ? "include each other" : "depend on each other"} in a circle: ${f.names.join(" -> ")}`,
  ],
  "include-across-scopes": (f: { role: string; scope: string | undefined }): Said => [
    f.scope === undefined
      ? `role "${f.role}" is held as such, so a role of one record cannot include it`
      : `role "${f.role}" is held on records of "${f.scope}", so a role of another scope cannot include it`,
  ],
  "exclusive-roles": (f: { what: string; roles: readonly string[] }): Said => [
    f.roles.length === 1
      ? `${f.what} excludes itself`
      : `${f.what} brings roles that exclude each other: ${f.roles.join(" and ")}`,
    f.roles.length === 1 ? undefined : "nobody may hold both, so nobody could be given this",
  ],
  "scoped-role": (f: { role: string; scope: string }): Said => [
    `role "${f.role}" is held on a record of "${f.scope}"`,
    `name the record: "${f.role} of PATH"`,
  ],
  "unscoped-role": (f: { role: string }): Said => [
    `role "${f.role}" is not held on a record`,
    `write "${f.role}" alone, or give the role a scope`,
  ],
  "no-owner": (f: { table: string }): Said => [
    `table "${f.table}" has no owner`,
    'name the field that leads to the person: "owner: FIELD"',
  ],
  "no-manager": (f: { what: string }): Said => [
    `${f.what} needs to know who is above whom`,
    'name the field: "people: { manager: FIELD }"',
  ],

  // Rules
  "missing-effect": (f: { rule: string; effects: readonly string[] }): Said => [
    `rule "${f.rule}" does nothing`,
    `give it one of ${f.effects.join(", ")}`,
  ],
  "several-effects": (f: { rule: string; found: readonly string[] }): Said => [
    `rule "${f.rule}" has several effects: ${f.found.join(", ")}`,
    "write one rule for each",
  ],
  "missing-to": (f: { rule: string; effect: string }): Said => [
    `rule "${f.rule}" does not say to whom`,
    `${article(f.effect)} needs "to"; write "to: anyone" if that is meant`,
  ],
  "wrong-extent": (f: { action: string; found: unknown; expected: string }): Said => [
    `${shown(f.found)} is no extent for ${f.action}`,
    `give ${f.expected}`,
  ],
  "computed-edit": (f: { field: string; action: string }): Said => [
    `"${f.field}" is computed, so nobody can be permitted to ${f.action} it`,
  ],
  "denied-key": (f: { action: string }): Said => [
    `the key cannot be denied for ${f.action} alone: it is seen whenever any field is`,
    "deny the other fields as well, or drop the key from the list",
  ],
  "misplaced-becomes": (f: { actions: readonly string[] }): Said => [
    `"becomes" speaks of a change, but this rule covers ${f.actions.join(", ")}`,
    "write those into a rule of their own",
  ],

  "unknown-tag": (f: Unknown & { table: string }): Said => [
    `no field of table "${f.table}" has the tag "${f.name}"`,
    suggest(f),
  ],
  "misplaced-confirm": (f: { action: string }): Said => [
    `"confirm" is for acts and changes, not for ${f.action}`,
    "deny or reserve it instead",
  ],
  "misplaced-also-after": (f: { why: "permit" | "becomes" }): Said => [
    f.why === "permit"
      ? '"alsoAfter" is for deny, reserve and confirm: a permit always looks at both'
      : '"alsoAfter" and "becomes" exclude each other: the first tests "where" again after the change',
  ],
  "empty-period": (f: { rule: string }): Said => [`rule "${f.rule}" ends before it begins`],

  // Screens
  "bad-need": (f: { found: string }): Said => [
    `${shown(f.found)} does not say what a screen needs`,
    "write TABLE.ACTION or TABLE.ACTION.FIELD, such as objects.edit.label",
  ],
  "unknown-screen": (f: Unknown): Said => [`there is no screen "${f.name}"`, suggest(f)],

  // Conditions
  "condition-syntax": (f: { found: string; expected: string }): Said => [`found ${f.found}`, `expected ${f.expected}`],
  "condition-depth": (f: { limit: number }): Said => [`the condition nests more than ${f.limit} deep`],
  "type-mismatch": (f: { left: string; right: string; op: string }): Said => [
    `${article(f.left)} cannot be compared with ${article(f.right)} by "${f.op}"`,
  ],
  "not-ordered": (f: { label: string; op: string }): Said => [
    `${article(f.label)} knows no "${f.op}"`,
    "use =, <> or in",
  ],
  "unknown-choice": (f: Unknown & { field: string }): Said => [`"${f.name}" is no value of ${f.field}`, suggest(f)],
  "not-a-list": (f: { field: string }): Said => [
    `"${f.field}" is not a list`,
    "write the values in parentheses: in ('a', 'b')",
  ],
  "bad-literal": (f: { expects: string; found: string }): Said => [`${f.found} is not ${f.expects}`],
  "bad-duration": (f: { label: string; unit: string }): Said => [
    `${f.unit} cannot be added to ${article(f.label)}`,
    "days go with dates and timestamps, hours and minutes with timestamps only",
  ],
  "misplaced-member": (f: { name: string }): Said => [
    `"is ${f.name}" has no place here`,
    "it asks who somebody is, and this condition may ask for values only",
  ],
  "misplaced-may": (_: object): Said => [
    '"may" has no place here',
    "it asks about a record, and this condition is about a person",
  ],

  // Text files
  "file-missing": (f: { file: string; why: string }): Said => [`cannot read ${f.file}: ${f.why}`],
  "not-yaml": (f: { why: string }): Said => [`this is not YAML: ${f.why}`],
  "not-json": (f: { why: string }): Said => [`this is not JSON: ${f.why}`],
  "not-csv": (f: { why: string }): Said => [
    `this is not CSV: ${f.why}`,
    "write names in the first line, and a cell for each",
  ],
  "alias-limit": (f: { limit: number }): Said => [
    `aliases expand to more than ${f.limit} copies`,
    "write the parts out",
  ],

  // Data
  "more-problems": (f: { limit: number }): Said => [
    `there are ${f.limit} problems, and perhaps more`,
    "mend these first; the rest of the file was not looked at",
  ],
  "duplicate-record": (f: { table: string; key: string }): Said => [
    `table "${f.table}" has the key ${shown(f.key)} twice`,
  ],
  "unknown-person": (f: Unknown): Said => [`there is no person "${f.name}"`, suggest(f)],
  "unknown-rule": (f: Unknown): Said => [`there is no rule "${f.name}"`, suggest(f)],
  "unknown-record": (f: Unknown & { table: string }): Said => [
    `table "${f.table}" has no record "${f.name}"`,
    suggest(f),
  ],
} as const;
