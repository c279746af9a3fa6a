import { type Formula, formula, isFixed, print, test } from "../formula.js";
import { raw } from "../fragment.js";
import { fromSubject, joined, written } from "./ddl.js";

/** What asks nothing of a record, put together as far as it goes and worked out once for the statement. */
export function selectedOnce(one: Formula, inside: string): Formula {
  if (isFixed(one)) {
    if (one.kind !== "test" && one.terms.length === 0) return one;
    // Is selected by itself, without a "from", which would be copied again and again while a statement is planned.
    if (one.kind === "test" && one.fragment.length === 1) return one;
    return test(raw(`(select ${written(print(one), joined)} from ${fromSubject(inside)})`), true);
  }
  if (one.kind === "test") return one;
  const fixed = one.terms.filter(isFixed);
  const others = one.terms.filter((term) => !isFixed(term)).map((term) => selectedOnce(term, inside));
  const once = fixed.length === 0 ? [] : [selectedOnce(formula(one.kind, fixed), inside)];
  return { kind: one.kind, terms: [...once, ...others] };
}
