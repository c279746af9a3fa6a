import { type Said, shown } from "./call-messages.js";

/**
 * The sentences about changes of who holds what. They are apart from those about documents, so that an application that
 * only decides does not carry these along.
 */
export const assignmentMessages = {
  // Changes of who holds what
  "assignments-not-enabled": (_: object): Said => [
    "this document does not say that roles are assigned",
    'add "assignments: true" to "people"',
  ],
  "record-needed": (f: { role: string; scope: string }): Said => [
    `role "${f.role}" is held on a record of "${f.scope}"`,
    "say on which one",
  ],
  "no-record-needed": (f: { role: string }): Said => [
    `role "${f.role}" is not held on a record`,
    "leave the record out",
  ],
  "no-such-record": (f: { table: string; name: string }): Said => [
    `there is no record ${shown(f.name)} of "${f.table}" that the giver may list`,
  ],
  "may-not-assign": (f: { role: string; assigners: readonly string[]; with: string | undefined }): Said => [
    f.with === undefined
      ? `role "${f.role}" is not this person's to give or take`
      : `with ${f.with} comes "${f.role}", which is not this person's to give`,
    f.assigners.length === 0
      ? 'no role says "assignableBy" for it, so nobody gives it'
      : `it is given by ${f.assigners.join(", ")}`,
  ],
  "may-not-set": (f: { assigners: readonly string[] }): Said => [
    "what this person may do with a field is not yours to set",
    f.assigners.length === 0 ? 'the settings name nobody in "settableBy"' : `it is set by ${f.assigners.join(", ")}`,
  ],
  "invalid-setting": (f: { what: string; hint: string | undefined }): Said => [f.what, f.hint],
  "no-settings": (_: object): Said => [
    "this document does not say where settings are kept",
    'add "settings" to "people"',
  ],
  "not-set": (f: { person: string; field: string }): Said => [`nothing is set of ${f.person} and "${f.field}"`],
  "no-protections": (f: { table: string; candidates: readonly string[] }): Said => [
    `no cells of "${f.table}" are protected as data`,
    f.candidates.length === 0 ? 'add "protections: true" to its grid' : `there are ${f.candidates.join(", ")}`,
  ],
  "no-such-protection": (f: { id: string }): Said => [`there is no protection ${shown(f.id)} that you may change`],
  "may-not-protect": (f: { table: string; cell: string }): Said => [
    `${f.cell} of "${f.table}" is not yours to protect`,
    'a rule says who may: "permit: { protect: ... }"',
  ],
  "protected-from-you": (f: { id: string; by: string }): Said => [
    `the protection ${f.id} does not name you, so it is not yours to change`,
    `${f.by} made it, and may, or one of those whom it names`,
  ],
  "no-cells": (_: object): Said => ["a protection needs cells", "write B2:F40, C7, G:G, 2:2, A2:E or H:"],
  "already-assigned": (f: { person: string; role: string }): Said => [
    `${f.person} has been given "${f.role}" already`,
    "to change when it ends, set its limit",
  ],
  "not-assigned": (f: { person: string; role: string; from: readonly string[] }): Said => [
    `${f.person} has not been given "${f.role}"`,
    f.from.length === 0 ? undefined : `it comes from ${f.from.join(", ")}, and is taken away there`,
  ],
  "same-role": (f: { role: string }): Said => [
    `"${f.role}" cannot take its own place`,
    "name another role; to change when this one ends, set its limit",
  ],
  "period-is-over": (f: { what: string }): Said => [`${f.what} would be over before it begins, or is over already`],
  "excluded-role": (f: { person: string; roles: readonly string[]; at: string | undefined }): Said => [
    `${f.person} would hold ${f.roles.map(shown).join(" and ")}, which exclude each other${f.at === undefined ? "" : `, from ${f.at}`}`,
    "take the one away before the other is given",
  ],
  "last-holders": (f: { role: string; needed: number; left: number; at: string | undefined }): Said => [
    `${f.at === undefined ? "" : `from ${f.at} `}${f.left === 0 ? "nobody" : `only ${f.left}`} would hold "${f.role}", and at least ${f.needed} must`,
    "give it to somebody else first",
  ],
  "not-while-acting": (f: { what: string }): Said => [
    `whoever acts for another cannot ${f.what}`,
    "the other does that themselves",
  ],
  "may-not-delegate": (f: { of: string }): Said => [
    `only ${f.of}, or whoever may give all that they hold, lets somebody act for them`,
  ],
  "not-active": (f: { person: string }): Said => [`${f.person} is not active, or their roles cannot be read`],
  "no-delegation": (f: { of: string; to: string }): Said => [`${f.to} does not act for ${f.of}, now or later`],
  "bootstrap-not-needed": (f: { role: string; assigners: readonly string[] }): Said => [
    `"${f.role}" can be given by ${f.assigners.join(", ")}, so nobody needs to be made the first`,
    "let one of them give it",
  ],
  "unstorable-text": (_: object): Said => [
    "a text of this change cannot be stored: it holds a NUL character, or half of a surrogate pair",
    "leave it out",
  ],
  "store-keeps-no-people": (_: object): Said => ["this store does not keep persons", "change them where they are kept"],
  "change-refused": (f: { what: string; fields: readonly string[] }): Said => [
    `${f.what} is refused${f.fields.length === 0 ? "" : `: ${f.fields.join(", ")}`}`,
  ],

  // What is said before somebody is given something
  "gains-sensitive": (f: { person: string; action: string; table: string; fields: readonly string[] }): Said => [
    `${f.person} will ${f.action} sensitive fields of "${f.table}": ${f.fields.join(", ")}`,
  ],
  "gains-assignable-roles": (f: { person: string; roles: readonly string[] }): Said => [
    `${f.person} will be able to give and take ${f.roles.map(shown).join(", ")}`,
  ],
  "gains-revoking-your-roles": (f: { person: string; roles: readonly string[] }): Said => [
    `${f.person} will be able to take from you ${f.roles.map(shown).join(", ")}`,
  ],
  "assigns-oneself": (_: object): Said => ["you give this to yourself"],
  "lifts-protection": (f: { table: string; cells: string; note: string | null }): Said => [
    `${f.cells} of "${f.table}" will be less protected than now${f.note === null ? "" : `: ${f.note}`}`,
  ],
  "locks-everybody": (f: { table: string; cells: string }): Said => [
    `nobody will edit ${f.cells} of "${f.table}", you included`,
  ],
  "locks-oneself": (f: { table: string; cells: string }): Said => [
    `you will not edit ${f.cells} of "${f.table}" yourself`,
  ],
  "loses-assignable-roles": (f: { roles: readonly string[] }): Said => [
    `you will no longer be able to give or take ${f.roles.map(shown).join(", ")}`,
  ],
} as const;
