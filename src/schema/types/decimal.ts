import { limits } from "../limits.js";
import { fieldType } from "./field-type.js";

const spelling = /^(-?)0*(\d+)(?:\.(\d*?)0*)?$/;

/** `"0120.50"` becomes `"120.5"`, `"-0.0"` becomes `"0"`; undefined for anything but digits with an optional fraction. */
export function canonicalDecimal(value: unknown): string | undefined {
  if (typeof value !== "string" || value.length > limits.decimalDigits + 2 || value.endsWith(".")) return undefined;
  const found = spelling.exec(value);
  if (found === null) return undefined;
  const [, sign = "", whole = "", fraction = ""] = found;
  const digits = fraction === "" ? whole : `${whole}.${fraction}`;
  return digits === "0" ? "0" : sign + digits;
}

/** Order of two canonical decimals by exact value, without leaving their digits. */
export function compareDecimals(a: string, b: string): number {
  if (a === b) return 0;
  const negative = a.startsWith("-");
  if (negative !== b.startsWith("-")) return negative ? -1 : 1;
  const order = negative ? compareMagnitudes(b.slice(1), a.slice(1)) : compareMagnitudes(a, b);
  return order;
}

function compareMagnitudes(a: string, b: string): number {
  const [wholeA = "", fractionA = ""] = a.split(".");
  const [wholeB = "", fractionB = ""] = b.split(".");
  if (wholeA.length !== wholeB.length) return wholeA.length - wholeB.length;
  if (wholeA !== wholeB) return wholeA < wholeB ? -1 : 1;
  return fractionA < fractionB ? -1 : 1;
}

export const decimal = /* @__PURE__ */ fieldType({
  name: "decimal",
  noun: "decimal",
  expects: 'a decimal in quotes such as "1200.50"',
  base: "decimal",
  canonical: canonicalDecimal,
  compare: (a, b) => compareDecimals(a as string, b as string),
  literal: (value) => String(value),
});
