import type { RuleCoverage } from "./coverage.js";

/** What of a rule no expectation has exercised, in words; empty for one that is exercised in every part. */
export function uncovered({ applied, who, isForAnyone, entriesNotMet, where, fieldsNotAsked }: RuleCoverage): string[] {
  const outcomes = where === undefined ? [] : (["true", "false"] as const).filter((one) => !where[one]);
  return [
    ...(applied ? [] : ["it bore on no answer"]),
    ...(who.met ? [] : ["nobody whom it is for was asked about"]),
    ...(who.notMet || isForAnyone || entriesNotMet.length > 0 ? [] : ["nobody whom it is not for was asked about"]),
    ...(entriesNotMet.length === 0 ? [] : [`nobody met: ${entriesNotMet.join(", ")}`]),
    ...outcomes.map((one) => `its condition was never ${one}`),
    ...(fieldsNotAsked.length === 0 ? [] : [`not asked about: ${fieldsNotAsked.join(", ")}`]),
  ];
}
