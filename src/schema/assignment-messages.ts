import { type Said, shown } from "./call-messages.js";

const quoted = (names: readonly string[]): string => names.map(shown).join(", ");

/**
 * The messages for changes of roles, settings and protections. They are apart from those about documents, so that an
 * application that only decides does not carry these along.
 */
export const assignmentMessages = {
  "assignments-not-enabled": (_: object): Said => [
    "this document does not keep role assignments",
    'add "assignments: true" to "people"',
  ],
  "record-needed": (f: { role: string; scope: string }): Said => [
    `role "${f.role}" is held on a record of "${f.scope}"`,
    "name the record",
  ],
  "no-record-needed": (f: { role: string }): Said => [
    `role "${f.role}" is a global role and not held on a record`,
    "leave the record out",
  ],
  "no-such-record": (f: { table: string; name: string }): Said => [
    `table "${f.table}" has no record ${shown(f.name)} that you may list`,
  ],
  "may-not-assign": (f: { role: string; assigners: readonly string[]; with: string | undefined }): Said => [
    f.with === undefined
      ? `you may not assign or revoke role "${f.role}"`
      : `"${f.with}" brings role "${f.role}" along, which you may not assign`,
    f.assigners.length === 0
      ? 'its "assignableBy" names nobody, so nobody may assign it'
      : `it may be assigned by ${f.assigners.join(", ")}`,
  ],
  "may-not-set": (f: { assigners: readonly string[] }): Said => [
    "you may not set what a person may do with a field",
    f.assigners.length === 0
      ? 'the "settableBy" of the settings names nobody'
      : `it may be set by ${f.assigners.join(", ")}`,
  ],
  "invalid-setting": (f: { what: string; hint: string | undefined }): Said => [f.what, f.hint],
  "no-settings": (_: object): Said => [
    "this document does not name a table for settings per person",
    'add "settings" to "people"',
  ],
  "not-set": (f: { person: string; field: string }): Said => [
    `person ${shown(f.person)} has no setting for "${f.field}"`,
  ],
  "no-protections": (f: { table: string; candidates: readonly string[] }): Said => [
    `table "${f.table}" does not keep protections of cells`,
    f.candidates.length === 0 ? 'add "protections: true" to its grid' : `tables that do: ${f.candidates.join(", ")}`,
  ],
  "no-such-protection": (f: { id: string }): Said => [`there is no protection ${shown(f.id)} that you may change`],
  "may-not-protect": (f: { table: string; cell: string }): Said => [
    `you may not protect cell ${f.cell} of "${f.table}"`,
    'a rule decides who may: "permit: { protect: ... }"',
  ],
  "protected-from-you": (f: { id: string; by: string }): Said => [
    `protection ${shown(f.id)} does not name you, so you may not change it`,
    `those whom it names may, and ${shown(f.by)}, who made it`,
  ],
  "no-cells": (_: object): Said => ["a protection needs cells", "write B2:F40, C7, G:G, 2:2, A2:E or H:"],
  "already-assigned": (f: { person: string; role: string }): Said => [
    `role "${f.role}" is already assigned to person ${shown(f.person)}`,
    "to change when it ends, set its expiry",
  ],
  "not-assigned": (f: { person: string; role: string; from: readonly string[] }): Said => [
    `role "${f.role}" is not assigned to person ${shown(f.person)}`,
    f.from.length === 0 ? undefined : `it comes from ${f.from.join(", ")}, so revoke it there`,
  ],
  "same-role": (f: { role: string }): Said => [
    `role "${f.role}" cannot replace itself`,
    "name another role; to change when this one ends, set its expiry",
  ],
  "period-is-over": (f: { what: string }): Said => [`${f.what} would end before it begins, or is over already`],
  "excluded-role": (f: { person: string; roles: readonly string[]; at: string | undefined }): Said => [
    `person ${shown(f.person)} would hold ${f.roles.map(shown).join(" and ")}, which exclude each other${f.at === undefined ? "" : `, from ${f.at}`}`,
    "revoke one before you assign the other",
  ],
  "last-holders": (f: { role: string; needed: number; left: number; at: string | undefined }): Said => [
    `role "${f.role}" needs ${f.needed} ${f.needed === 1 ? "holder" : "holders"}, and ${f.left === 0 ? "none" : `only ${f.left}`} would be left${f.at === undefined ? "" : ` from ${f.at}`}`,
    "assign it to somebody else first",
  ],
  "not-while-acting": (f: { what: string }): Said => [
    `you cannot ${f.what} while you act for another person`,
    "they must do it themselves",
  ],
  "may-not-delegate": (f: { of: string }): Said => [
    `only person ${shown(f.of)}, or somebody who may assign all of their roles, may let others act for them`,
  ],
  "not-active": (f: { person: string }): Said => [
    `person ${shown(f.person)} is not active, or their roles cannot be read`,
  ],
  "no-delegation": (f: { of: string; to: string }): Said => [
    `person ${shown(f.to)} does not act for ${shown(f.of)}, now or later`,
  ],
  "bootstrap-not-needed": (f: { role: string; assigners: readonly string[] }): Said => [
    `role "${f.role}" can already be assigned by ${f.assigners.join(", ")}`,
    "ask one of them to assign it",
  ],
  "unstorable-text": (_: object): Said => [
    "a text of this change cannot be stored: it contains a NUL character or half of a surrogate pair",
    "leave it out",
  ],
  "store-keeps-no-people": (_: object): Said => ["this store does not keep people", "change them where they are kept"],
  "change-refused": (f: { what: string; fields: readonly string[] }): Said => [
    `${f.what} is refused${f.fields.length === 0 ? "" : `: ${f.fields.join(", ")}`}`,
  ],

  // Warnings before a change is made
  "gains-sensitive": (f: { person: string; action: string; table: string; fields: readonly string[] }): Said => [
    `person ${shown(f.person)} will be able to ${f.action} sensitive fields of "${f.table}": ${f.fields.join(", ")}`,
  ],
  "gains-assignable-roles": (f: { person: string; roles: readonly string[] }): Said => [
    `person ${shown(f.person)} will be able to assign and revoke ${quoted(f.roles)}`,
  ],
  "gains-revoking-your-roles": (f: { person: string; roles: readonly string[] }): Said => [
    `person ${shown(f.person)} will be able to revoke your ${f.roles.length === 1 ? "role" : "roles"} ${quoted(f.roles)}`,
  ],
  "assigns-oneself": (_: object): Said => ["you assign this to yourself"],
  "lifts-protection": (f: { table: string; cells: string; note: string | null }): Said => [
    `cells ${f.cells} of "${f.table}" will be less protected than now${f.note === null ? "" : `: ${f.note}`}`,
  ],
  "locks-everybody": (f: { table: string; cells: string }): Said => [
    `nobody, including you, will be able to edit ${f.cells} of "${f.table}"`,
  ],
  "locks-oneself": (f: { table: string; cells: string }): Said => [
    `you will not be able to edit ${f.cells} of "${f.table}"`,
  ],
  "loses-assignable-roles": (f: { roles: readonly string[] }): Said => [
    `you will no longer be able to assign or revoke ${quoted(f.roles)}`,
  ],
} as const;
