import { fieldType } from "./field-type.js";

export const integer = /* @__PURE__ */ fieldType({
  name: "integer",
  noun: "integer",
  expects: "a whole number between -(2^53 - 1) and 2^53 - 1",
  base: "integer",
  // Adding 0 turns -0 into 0, so that equal numbers stay `===` when they are printed and keyed, too.
  canonical: (value) => (Number.isSafeInteger(value) ? (value as number) + 0 : undefined),
  compare: (a, b) => (a as number) - (b as number),
  literal: (value) => String(value),
});
