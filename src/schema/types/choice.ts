import { quoteText } from "../scalar.js";
import type { FieldType } from "./field-type.js";

/** A closed list of values. Knows `=`, `<>` and `in`, no order. */
export function choice(choices: readonly string[]): FieldType {
  const known = new Set(choices);
  return {
    name: "choice",
    label: "choice",
    expects: `one of ${choices.slice(0, 8).join(", ")}${choices.length > 8 ? ", ..." : ""}`,
    base: "choice",
    canonical: (value) => (typeof value === "string" && known.has(value) ? value : undefined),
    literal: (value) => quoteText(value as string),
    choices,
  };
}
