import { compareText, quoteText, type Scalar } from "../scalar.js";
import type { FieldType } from "./field-type.js";

export const text: FieldType = {
  name: "text",
  label: "text",
  expects: "a text",
  base: "text",
  canonical: (value) => (typeof value === "string" ? value : undefined),
  compare: (a, b) => compareText(a as string, b as string),
  literal: (value: Scalar) => quoteText(value as string),
};
