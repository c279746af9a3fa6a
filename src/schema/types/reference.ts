import type { FieldType } from "./field-type.js";

/** The key of a record of another table (or of the same). `key` is the type of the target's key. Knows no order. */
export function reference(target: string, key: FieldType): FieldType {
  return {
    name: "reference",
    noun: `reference to ${target}`,
    expects: `the key of a record of "${target}" (${key.expects})`,
    base: key.base,
    canonical: key.canonical,
    fits: key.fits,
    literal: key.literal,
    ...(key.choices === undefined ? {} : { choices: key.choices }),
    ...(key.zone === undefined ? {} : { zone: key.zone }),
    target,
  };
}
