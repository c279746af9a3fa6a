import { boolean } from "./boolean.js";
import { date } from "./date.js";
import { decimal } from "./decimal.js";
import type { FieldType, FieldTypeName } from "./field-type.js";
import { integer } from "./integer.js";
import { text } from "./text.js";
import { timestamp } from "./timestamp.js";

/** The types that need no more than their name. */
export const scalarTypes = { text, integer, decimal, boolean, date, timestamp } as const satisfies Partial<
  Record<FieldTypeName, FieldType>
>;

/** The name of a field type whose values stand alone. */
export type ScalarTypeName = keyof typeof scalarTypes;

export function isScalarTypeName(name: string): name is ScalarTypeName {
  return Object.hasOwn(scalarTypes, name);
}
