import type { Row } from "../conditions/source.js";
import type { Field } from "../schema/schema.js";

/** A record as a person sees it: the visible fields with their stored values. What is hidden is not there at all. */
export type MaskedRow = Record<string, unknown>;

/** Makes what is shown of a record; undefined where a value has to be looked at more closely. */
export type ShowFields = (row: Row) => MaskedRow | undefined;

/** Puts a value that fits its type into a copy of the template; false where it does not, or is not there. */
type Place = (row: Row, into: MaskedRow) => boolean;

/** Copies of one text, as in `conditions/equality.ts`: a place of its own for each field. */
// biome-ignore format: one copy a line
const copies: readonly ((name: string, isText: boolean, fits: (value: unknown) => boolean) => Place)[] = [
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
  (n, t, f) => (r, m) => { const v = r[n]; if (v === null) return true; if (t ? typeof v !== "string" : !f(v)) return false; m[n] = v; return true; },
];

type Copy = (typeof copies)[number];
const copyOf = new WeakMap<Field, Copy>();
let next = 0;

/**
 * Shows some fields of records, all of them stored ones. What is shown is a copy of one object that has all fields, into which
 * the values are put: an engine then knows where each lies, which it would forget for an object that grows by names.
 */
export function compileShowFields(fields: readonly Field[]): ShowFields {
  if (fields.some(({ lookup, by, name }) => lookup !== undefined || by !== undefined || name in Object.prototype)) {
    return () => undefined;
  }
  // An object with many fields that is put together name by name becomes a slow table of an engine; one that is read does not.
  const template: MaskedRow = JSON.parse(JSON.stringify(Object.fromEntries(fields.map(({ name }) => [name, null]))));
  const places = fields.map((field) => {
    const copy = copyOf.get(field) ?? (copies[next++ % copies.length] as Copy);
    copyOf.set(field, copy);
    return copy(field.name, field.type.base === "text", field.type.fits);
  });
  return (row) => {
    const shown: MaskedRow = { ...template };
    for (let i = 0; i < places.length; i++) if (!(places[i] as Place)(row, shown)) return undefined;
    return shown;
  };
}
