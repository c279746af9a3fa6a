export type { Row, Source } from "./conditions/source.js";
export { not, type TypedCondition } from "./define/condition.js";
export { type Declared, define, type RulesOf, type TypesOf } from "./define/define.js";
export type { Declaration, RuleOf } from "./define/types.js";
export type { ShowAction } from "./rules/action-tree.js";
export type { ActionName, BuiltInAction } from "./rules/actions.js";
export { actionNames } from "./rules/actions.js";
export type { EffectName } from "./rules/effects.js";
export type {
  DocumentInput,
  EveryTableInput,
  ExtentInput,
  ExtentsInput,
  FieldInput,
  GridInput,
  GroupInput,
  IgnoreInput,
  LinkInput,
  MemberInput,
  PeopleInput,
  RoleInput,
  RuleInput,
  ScreenInput,
  SettingsInput,
  TableInput,
  TypedDocument,
} from "./schema/document.js";
export type {
  AnyDocument,
  DocumentTypes,
  FieldOf,
  PersonOf,
  RecordOf,
  RequestOf,
  TableOf,
  ValuesOf,
} from "./schema/document-types.js";
export type { ErrorCode, Locate, Path, Problem, ProblemCode } from "./schema/problems.js";
export { formatProblem, PortierError } from "./schema/problems.js";
export type { Scalar } from "./schema/scalar.js";
export type {
  Assigner,
  DefaultSource,
  Field,
  FieldPath,
  Grid,
  IgnoredWarnings,
  KeptTables,
  Lookup,
  People,
  Role,
  RoleSource,
  Schema,
  SettingAdds,
  SettingSource,
  Table,
} from "./schema/schema.js";
export type { FieldType, FieldTypeName } from "./schema/types/field-type.js";
export type { ScalarTypeName } from "./schema/types/scalars.js";
export type { WarningCode } from "./schema/warning-messages.js";
export type { RoleClaim } from "./session/assigned-roles.js";
export type { AcceptedChange, ChangeOptions, ChangeResult, Refusal, RejectedChange } from "./session/change-result.js";
export type { BatchResult } from "./session/check-batch.js";
export { type CompiledDocument, compiledOf } from "./session/compiled.js";
export type { Confirmation, Decision, Reason } from "./session/decision.js";
export type { FieldState, Form, FormAction, FormField } from "./session/form.js";
export type { Identity, IdentityOrKey } from "./session/identity.js";
export { type NewSnapshotOptions, snapshotOf } from "./session/make-snapshot.js";
export type { AnyRules } from "./session/open-rules.js";
export type { AnySession } from "./session/open-session.js";
export { type CompileOptions, compile, type Portier } from "./session/portier.js";
export type { Reach } from "./session/reach.js";
export type { ShownScreens } from "./session/screens.js";
export type { Session } from "./session/session.js";
export type { Diagnostic, SessionOptions } from "./session/session-options.js";
export type { ActionOf, Masked } from "./session/session-types.js";
export type { MaskedRow } from "./session/shown-fields.js";
export type { Snapshot } from "./session/snapshot.js";
export type { UserMessages } from "./session/user-messages.js";
