export type { ExpectationData } from "./expectations/asked.js";
export type {
  Check,
  Expectation,
  ExpectedOutcome,
  ExpectedRecords,
  ExpectedViewer,
} from "./expectations/expectation.js";
export { readExpectations } from "./expectations/read-expectations.js";
export { type ExpectationResult, runExpectations } from "./expectations/run-expectations.js";
export { type ExpectationInput, type ExpectationList, expectations } from "./expectations/written.js";
export {
  type AccessChange,
  type AccessDifference,
  type AllRecords,
  diffAccess,
  diffSessions,
  type SharedDifference,
} from "./gains.js";
export { type LintOptions, lint, warningCodes } from "./lint/lint.js";
export type { LintData } from "./lint/warnings.js";
export { accessMatrix, type MatrixCell, type MatrixOptions, type MatrixRow } from "./matrix.js";
export { groupViewers, personViewer, personViewers, roleViewers, type Viewer, visitorViewer } from "./viewers.js";
