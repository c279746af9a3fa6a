import { quoteText } from "../scalar.js";
import { type FieldType, fieldType } from "./field-type.js";

/** A closed list of values. Knows `=`, `<>` and `in`, no order. */
export function choice(choices: readonly string[]): FieldType {
  const known = choices.length > 16 ? new Set(choices) : undefined;
  // A short list is looked through faster than a set is asked (see bench/).
  const isKnown = (value: string): boolean => {
    if (known !== undefined) return known.has(value);
    for (let i = 0; i < choices.length; i++) if (choices[i] === value) return true;
    return false;
  };
  return fieldType({
    name: "choice",
    noun: "choice",
    expects: `one of ${choices.slice(0, 8).join(", ")}${choices.length > 8 ? ", ..." : ""}`,
    base: "choice",
    canonical: (value) => (typeof value === "string" && isKnown(value) ? value : undefined),
    literal: (value) => quoteText(value as string),
    choices,
  });
}
