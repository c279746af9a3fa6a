import type { FieldType } from "./types/field-type.js";

/** Whether a default is `me`, `me.FIELD`, `now` or `today`, where that can be no value of the field. */
export function isSource(value: unknown, type: FieldType): boolean {
  if (typeof value !== "string" || type.choices?.includes(value) === true) return false;
  if (type.base === "text" && type.target === undefined) return value.startsWith("me.");
  return value === "me" || value.startsWith("me.") || value === "now" || value === "today";
}
