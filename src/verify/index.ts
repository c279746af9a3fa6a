export { declaredGains } from "./declared-gains.js";
export type { ExpectationData } from "./expectations/asked.js";
export { coverageOf, type RuleCoverage } from "./expectations/coverage.js";
export type {
  Check,
  Expectation,
  ExpectedOutcome,
  ExpectedRecords,
  ExpectedViewer,
} from "./expectations/expectation.js";
export { type Proposal, type ProposedGroup, proposeExpectations } from "./expectations/propose.js";
export { readExpectations } from "./expectations/read-expectations.js";
export { type ExpectationResult, runExpectations } from "./expectations/run-expectations.js";
export { uncovered } from "./expectations/uncovered.js";
export { type ExpectationInput, type ExpectationList, expectations } from "./expectations/written.js";
export {
  type AccessChange,
  type AccessDifference,
  diffAccess,
  diffSessions,
  type SharedDifference,
} from "./gains.js";
export { type LintOptions, lint, warningCodes } from "./lint/lint.js";
export type { LintData } from "./lint/warnings.js";
export {
  accessMatrix,
  groupMatrix,
  type MatrixCell,
  type MatrixClass,
  type MatrixOptions,
  type MatrixRow,
} from "./matrix.js";
export { type CellDifference, type CompareCell, compareWith } from "./matrix-differences.js";
export { type Member, membersOf } from "./members.js";
export { type Mutation, mutationsOf } from "./mutations.js";
export { type ObservedRefusal, type ObservedSummary, type ProposedRule, summarizeObserved } from "./observed.js";
export { type RuleDifference, ruleDifferences } from "./rule-differences.js";
export {
  type MutationOptions,
  type MutationRun,
  type SurvivingMutation,
  survivingMutations,
} from "./surviving-mutations.js";
export { type CellView, type RecordView, recordView } from "./view.js";
export { groupViewers, personViewer, personViewers, roleViewers, type Viewer, visitorViewer } from "./viewers.js";
