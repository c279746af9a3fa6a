export { type Explanation, explain, type Question } from "./explain.js";
export { type HeldRole, heldRoles } from "./held-roles.js";
export { formatMembershipPath, type MembershipPath } from "./membership-paths.js";
export type { MissingCondition, Remedy } from "./missing.js";
export { explanationText } from "./text.js";
export type { ConditionTrace, EntryTrace, RuleTrace, TracedTruth, WhoTrace } from "./trace.js";
