import type { Scalar } from "../scalar.js";

/** The names of the field types, as a document writes them. */
export const fieldTypeNames = [
  "text",
  "integer",
  "decimal",
  "boolean",
  "date",
  "timestamp",
  "choice",
  "reference",
  "list",
  "json",
] as const;

/** The name of a field type, as a document writes it. */
export type FieldTypeName = (typeof fieldTypeNames)[number];

/** A field's type: how its values are recognised, compared and printed. One file per type makes these. */
export interface FieldType {
  readonly name: FieldTypeName;
  /** For messages: `text`, `choice`, `reference to staff`. */
  readonly noun: string;
  /** What a value must look like, for messages: `a date such as "2027-01-31"`. */
  readonly expects: string;
  /** The type of the values: the type itself, or for a reference the type of the target's key. */
  readonly base: Exclude<FieldTypeName, "reference">;
  /** The canonical form of a stored or given value (never null), or undefined when it does not fit the type. */
  readonly canonical: (value: unknown) => Scalar | undefined;
  /** Whether a value (never null) fits the type; cheaper than its canonical form where that has to be made. */
  readonly fits: (value: unknown) => boolean;
  /** Order of two canonical values; absent where the model knows no `<`. */
  readonly compare?: (a: Scalar, b: Scalar) => number;
  /** A canonical value as a condition would write it. */
  readonly literal: (value: Scalar) => string;
  /** The closed list of a choice. */
  readonly choices?: readonly string[];
  /** The table that a reference leads to. */
  readonly target?: string;
  /** The type of a list's elements. */
  readonly element?: FieldType;
  /** Of a timestamp that is stored without a zone: the one that it is of. */
  readonly zone?: "UTC";
}

/** Completes a type for which a value fits exactly when it has a canonical form. */
export function fieldType(parts: Omit<FieldType, "fits">): FieldType {
  const { canonical } = parts;
  return { ...parts, fits: (value) => canonical(value) !== undefined };
}
