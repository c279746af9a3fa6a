import { nearest } from "./nearest.js";

/** A sentence, and the next step. */
export type Said = readonly [message: string, hint?: string | undefined];

/** A name that is not there, and those that are. */
export interface Unknown {
  readonly name: string;
  readonly candidates: Iterable<string>;
}

/** The name that was most likely meant, or those there are. */
export function suggest({ name, candidates }: Unknown): string | undefined {
  const known = [...candidates];
  const near = nearest(name, known);
  if (near !== undefined) return `did you mean "${near}"?`;
  if (known.length === 0) return undefined;
  return `known: ${known.slice(0, 12).join(", ")}${known.length > 12 ? ", ..." : ""}`;
}

/** A value of a document or of data, short enough for a sentence. */
export function shown(value: unknown): string {
  if (value === undefined) return "nothing";
  if (Array.isArray(value)) return value.length === 0 ? "an empty list" : "a list";
  if (typeof value === "object" && value !== null) return "a mapping";
  const text = typeof value === "string" ? JSON.stringify(value) : String(value);
  return text.length > 60 ? `${text.slice(0, 57)}...` : text;
}

/**
 * The sentences of what a call can be wrong in. They are apart from those about documents, so that an application that
 * only opens snapshots does not carry these along.
 */
export const callMessages = {
  "bad-value": (f: { field: string; expects: string; found: unknown }): Said => [
    `"${f.field}" must be ${f.expects}, not ${shown(f.found)}`,
  ],
  "missing-record-key": (f: { table: string; field: string }): Said => [
    `this record of "${f.table}" has no key: "${f.field}" is missing or null`,
  ],
  "needs-source": (f: { what: string; method?: "referring" | "all" }): Said =>
    f.method === undefined
      ? [`${f.what} reads other records, but the session has no source`, "give the session a source"]
      : [`${f.what} needs the source's "${f.method}", which it does not have`, `add ${f.method}() to the source`],
  "bad-source": (f: { table: string; expected: string; found: unknown }): Said => [
    `the source gave ${f.found instanceof Promise ? "a promise" : shown(f.found)} for "${f.table}" instead of ${f.expected}`,
    "a source is synchronous: read what is needed before the session is opened",
  ],
  "no-people": (f: { what: string }): Said => [
    `${f.what} needs to know the people, but the document names no people table`,
    'add "people: { table: ... }"',
  ],
  "unknown-action": (f: Unknown & { table: string }): Said => [
    `table "${f.table}" knows no action "${f.name}"`,
    suggest(f),
  ],
  "unknown-field": (f: Unknown & { table: string }): Said => [
    `table "${f.table}" has no field "${f.name}"`,
    suggest(f),
  ],
  "unknown-request": (f: Unknown): Said => [`the request has no value "${f.name}"`, suggest(f)],
  "unknown-role": (f: Unknown & { where?: string }): Said => [
    `${f.where === undefined ? "" : `${f.where}: `}there is no role "${f.name}"`,
    suggest(f),
  ],
  "unknown-table": (f: Unknown): Said => [`there is no table "${f.name}"`, suggest(f)],
  "wrong-call": (f: { what: string; hint: string }): Said => [f.what, f.hint],
  "wrong-scope": (f: { role: string; scope: string | undefined; where: string }): Said => [
    f.scope === undefined
      ? `${f.where}: role "${f.role}" is not held on a record`
      : `${f.where}: role "${f.role}" is held on records of "${f.scope}"`,
  ],
  "bad-setting": (f: { person: string; table: string; what: string; hint: string | undefined }): Said => [
    `a setting of ${f.person} in "${f.table}" is wrong: ${f.what}`,
    f.hint,
  ],
  "bad-protection": (f: { id: string; what: string }): Said => [
    `the protection ${f.id} cannot be read: ${f.what}`,
    "protections are changed by administration, which writes none of these",
  ],
  "bad-workbook": (f: { what: string }): Said => [`this workbook cannot be read: ${f.what}`],
  "bad-token": (f: { why: string }): Said => [`this token does not say who is asking: ${f.why}`],
  fault: (f: { what: string }): Said => [f.what],
} as const;
