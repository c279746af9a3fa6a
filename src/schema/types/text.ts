import { compareText, quoteText } from "../scalar.js";
import { fieldType } from "./field-type.js";

export const text = /* @__PURE__ */ fieldType({
  name: "text",
  noun: "text",
  expects: "a text",
  base: "text",
  canonical: (value) => (typeof value === "string" ? value : undefined),
  compare: (a, b) => compareText(a as string, b as string),
  literal: (value) => quoteText(value as string),
});
