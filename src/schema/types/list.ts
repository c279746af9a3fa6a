import type { Scalar } from "../scalar.js";
import type { FieldType } from "./field-type.js";

/**
 * A list of scalars or references, without nulls. Its canonical form is JSON of its elements' canonical forms, so that
 * two lists are equal exactly when these texts are; {@link listElements} takes it apart again. Knows no order.
 */
export function list(element: FieldType): FieldType {
  return {
    name: "list",
    noun: `list of ${element.noun}`,
    expects: `a list, each element ${element.expects}`,
    base: "list",
    element,
    canonical: (value) => {
      if (!Array.isArray(value)) return undefined;
      const elements: Scalar[] = [];
      // By index, as a hole in the list is not an element.
      for (let i = 0; i < value.length; i++) {
        const canonical = value[i] === null ? undefined : element.canonical(value[i]);
        if (canonical === undefined) return undefined;
        elements.push(canonical);
      }
      return JSON.stringify(elements);
    },
    fits: (value) => {
      if (!Array.isArray(value)) return false;
      for (let i = 0; i < value.length; i++) {
        if (value[i] === null || !element.fits(value[i])) return false;
      }
      return true;
    },
    literal: (value) =>
      `(${listElements(value)
        .map((one) => element.literal(one))
        .join(", ")})`,
  };
}

/** The canonical elements of a canonical list. */
export function listElements(canonical: Scalar): readonly Scalar[] {
  return JSON.parse(canonical as string) as Scalar[];
}
