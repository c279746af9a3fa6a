import { fieldType } from "./field-type.js";

export const boolean = /* @__PURE__ */ fieldType({
  name: "boolean",
  noun: "boolean",
  expects: "true or false",
  base: "boolean",
  canonical: (value) => (typeof value === "boolean" ? value : undefined),
  literal: (value) => String(value),
});
