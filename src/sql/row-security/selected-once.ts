import { type Formula, formula, isFixed, print, test } from "../formula.js";
import { raw } from "../fragment.js";
import { fromSubject, joined, written } from "./ddl.js";
import type { SubjectView } from "./subject-view.js";

/** What asks nothing of a record, put together as far as it goes and worked out once for the statement. */
export function selectedOnce(one: Formula, inside: string): Formula {
  // What is one fact is selected by itself, without a "from", which would be copied while a statement is planned.
  return fixedTogether(one, (fixed) =>
    test(raw(`(select ${written(print(fixed), joined)} from ${fromSubject(inside)})`), true),
  );
}

/** The same, worked out by `set_person`. */
export function plannedOnce(one: Formula, subject: SubjectView): Formula {
  return fixedTogether(one, (fixed) => subject.guard(fixed));
}

/** Replaces each part of a formula that asks nothing of a record, and more than one fact. */
function fixedTogether(one: Formula, replaced: (fixed: Formula) => Formula): Formula {
  if (isFixed(one)) {
    const isSingle = one.kind === "test" ? one.fragment.length === 1 : one.terms.length === 0;
    return isSingle ? one : replaced(one);
  }
  if (one.kind === "test") return one;
  const fixed = one.terms.filter(isFixed);
  const others = one.terms.filter((term) => !isFixed(term)).map((term) => fixedTogether(term, replaced));
  const once = fixed.length === 0 ? [] : [fixedTogether(formula(one.kind, fixed), replaced)];
  return { kind: one.kind, terms: [...once, ...others] };
}
