import type { FieldType } from "./field-type.js";

export const boolean: FieldType = {
  name: "boolean",
  label: "boolean",
  expects: "true or false",
  base: "boolean",
  canonical: (value) => (typeof value === "boolean" ? value : undefined),
  literal: (value) => String(value),
};
