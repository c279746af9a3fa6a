import type { RuleCoverage } from "./coverage.js";

/** The parts of a rule that no expectation covers, in words; empty for one that is covered in every part. */
export function uncovered({
  applied,
  who,
  isForAnyone,
  entriesNotCovered,
  where,
  fieldsNotCovered,
}: RuleCoverage): string[] {
  const outcomes = where === undefined ? [] : (["true", "false"] as const).filter((one) => !where[one]);
  return [
    ...(applied ? [] : ["it decided no answer"]),
    ...(who.applied ? [] : ["nobody it applies to was asked about"]),
    ...(who.notApplied || isForAnyone || entriesNotCovered.length > 0
      ? []
      : ["nobody it does not apply to was asked about"]),
    ...(entriesNotCovered.length === 0 ? [] : [`nobody matched: ${entriesNotCovered.join(", ")}`]),
    ...outcomes.map((one) => `its condition was never ${one}`),
    ...(fieldsNotCovered.length === 0 ? [] : [`fields not covered: ${fieldsNotCovered.join(", ")}`]),
  ];
}
