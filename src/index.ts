export type { Row, Source } from "./conditions/source.js";
export type { ActionName } from "./rules/actions.js";
export { actionNames } from "./rules/actions.js";
export type {
  DocumentInput,
  ExtentsInput,
  FieldInput,
  PeopleInput,
  RoleInput,
  RuleInput,
  TableInput,
} from "./schema/document.js";
export type { Locate, Path, Problem, ProblemCode } from "./schema/problems.js";
export { formatProblem, PortierError } from "./schema/problems.js";
export type { Acceptance, Refusal } from "./session/changes.js";
export type { Decision, Reason } from "./session/gate.js";
export type { MaskedRow } from "./session/mask.js";
export { type CompileOptions, compile, type Portier } from "./session/portier.js";
export type { Reach } from "./session/reach.js";
export type { Finding, Session, SessionOptions } from "./session/session.js";
