import { nearest } from "./nearest.js";

/** A sentence, and the next step. {@link sentence} gives both a capital and a full stop. */
export type Said = readonly [message: string, hint?: string | undefined];

/** A name that does not exist, and those that do. */
export interface Unknown {
  readonly name: string;
  readonly candidates: Iterable<string>;
}

/** The name that was most likely intended, or those that exist. */
export function suggest({ name, candidates }: Unknown): string | undefined {
  const known = [...candidates];
  const near = nearest(name, known);
  if (near !== undefined) return `Did you mean "${near}"?`;
  if (known.length === 0) return undefined;
  return `Known: ${known.slice(0, 12).join(", ")}${known.length > 12 ? ", ..." : ""}`;
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
 * The messages for calls that are wrong. They are apart from those about documents, so that an application that only opens
 * snapshots does not carry these along.
 */
export const callMessages = {
  "bad-value": (f: { field: string; expects: string; found: unknown }): Said => [
    `"${f.field}" must be ${f.expects}, not ${shown(f.found)}`,
  ],
  "missing-record-key": (f: { table: string; field: string }): Said => [
    `a record of "${f.table}" has no key: "${f.field}" is missing or null`,
  ],
  "needs-source": (f: { what: string; method?: "referring" | "all" }): Said =>
    f.method === undefined
      ? [`${f.what} reads other records, but the session has no source`, "pass a source to the session"]
      : [`${f.what} needs "${f.method}" of the source, which it does not have`, `add ${f.method}() to the source`],
  "bad-source": (f: { table: string; expected: string; found: unknown }): Said => [
    `the source returned ${f.found instanceof Promise ? "a promise" : shown(f.found)} for "${f.table}" instead of ${f.expected}`,
    "a source is synchronous: fetch what is needed before the session is opened",
  ],
  "no-people": (f: { what: string }): Said => [
    `${f.what} needs people, but the document names no people table`,
    'add "people: { table: ... }"',
  ],
  "unknown-action": (f: Unknown & { table: string }): Said => [
    `table "${f.table}" has no action "${f.name}"`,
    suggest(f),
  ],
  "unknown-field": (f: Unknown & { table: string }): Said => [
    `table "${f.table}" has no field "${f.name}"`,
    suggest(f),
  ],
  "unknown-request": (f: Unknown): Said => [`unknown request value "${f.name}"`, suggest(f)],
  "unknown-role": (f: Unknown & { where?: string }): Said => [
    `${f.where === undefined ? "" : `${f.where}: `}unknown role "${f.name}"`,
    suggest(f),
  ],
  "unknown-table": (f: Unknown): Said => [`unknown table "${f.name}"`, suggest(f)],
  "wrong-call": (f: { what: string; hint: string }): Said => [f.what, f.hint],
  "wrong-scope": (f: { role: string; scope: string | undefined; where: string }): Said => [
    f.scope === undefined
      ? `${f.where}: role "${f.role}" is a global role and not held on a record`
      : `${f.where}: role "${f.role}" is held on records of "${f.scope}", so a record must be named`,
  ],
  "bad-setting": (f: { person: string; table: string; what: string; hint: string | undefined }): Said => [
    `a setting of person ${shown(f.person)} in "${f.table}" is not valid: ${f.what}`,
    f.hint,
  ],
  "bad-protection": (f: { id: string; what: string }): Said => [
    `protection ${shown(f.id)} is not valid: ${f.what}`,
    "change protections through administration, which stores valid ones only",
  ],
  "bad-workbook": (f: { what: string }): Said => [`this workbook cannot be read: ${f.what}`],
  "bad-token": (f: { why: string }): Said => [`this token does not identify a person: ${f.why}`],
  fault: (f: { what: string }): Said => [f.what],
} as const;
