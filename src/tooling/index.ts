// What the command and the inspector are made of. Not versioned: a minor release may change or remove any of it.
export { canonicalJson } from "../document/canonical.js";
export { copyRole, copyRule, type RuleCopy } from "../document/copy.js";
export { recordKey } from "../document/data.js";
export { parsePlaced } from "../document/parse-document.js";
export { type ExplanationWords, explanationWords, type WordEntry, type WordSection } from "../explain/text.js";
export { readInstant } from "../schema/instant.js";
export { declaredGains } from "../verify/declared-gains.js";
export { coverageOf, type RuleCoverage } from "../verify/expectations/coverage.js";
export { type Proposal, type ProposedGroup, proposeExpectations } from "../verify/expectations/propose.js";
export { uncovered } from "../verify/expectations/uncovered.js";
export { groupMatrix, type MatrixClass } from "../verify/matrix.js";
export { type CellDifference, type CompareCell, compareWith } from "../verify/matrix-differences.js";
export { type Member, membersOf } from "../verify/members.js";
export { type Mutation, mutationsOf } from "../verify/mutations.js";
export {
  type ObservedRefusal,
  type ObservedSummary,
  type ProposedRule,
  summarizeObserved,
} from "../verify/observed.js";
export { type RuleDifference, ruleDifferences } from "../verify/rule-differences.js";
export {
  type MutationOptions,
  type MutationRun,
  type SurvivingMutation,
  survivingMutations,
} from "../verify/surviving-mutations.js";
export { type CellView, type RecordView, recordView } from "../verify/view.js";
