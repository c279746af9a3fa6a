export type { Row, Source } from "./conditions/source.js";
export { not, type TypedCondition } from "./define/condition.js";
export { type Declared, define, type RulesOf } from "./define/define.js";
export type { Declaration, RowOf, TablesOf } from "./define/types.js";
export type { ShowAction } from "./rules/action-tree.js";
export type { ActionName, BuiltInAction } from "./rules/actions.js";
export { actionNames } from "./rules/actions.js";
export type {
  DocumentInput,
  ExtentsInput,
  FieldInput,
  PeopleInput,
  RoleInput,
  RuleInput,
  TableInput,
  TypedDocument,
} from "./schema/document.js";
export type { Locate, Path, Problem, ProblemCode } from "./schema/problems.js";
export { formatProblem, PortierError } from "./schema/problems.js";
export type { AnyTables, FieldOf, TableOf, TableTypes } from "./schema/table-types.js";
export type { AcceptedChange, ChangeOptions, ChangeResult, Refusal, RejectedChange } from "./session/change-result.js";
export type { BatchResult } from "./session/check-batch.js";
export { type CompiledDocument, compiledOf } from "./session/compiled.js";
export type { Confirmation, Decision, Reason } from "./session/decision.js";
export type { FieldState, Form, FormAction, FormField } from "./session/form.js";
export { snapshotOf } from "./session/make-snapshot.js";
export { type CompileOptions, compile, type Portier } from "./session/portier.js";
export type { Reach } from "./session/reach.js";
export type { Session } from "./session/session.js";
export type { Diagnostic, SessionOptions } from "./session/session-options.js";
export type { ActionOf, Masked } from "./session/session-types.js";
export type { MaskedRow } from "./session/shown-fields.js";
export type { Snapshot } from "./session/snapshot.js";
