export type { SettingLevel } from "../schema/schema.js";
export type { StoredWrite } from "../session/overlay.js";
export type { Assignment, Delegation } from "../session/roles/assignment.js";
export {
  type Administration,
  type Administrator,
  type AdministratorIdentity,
  administration,
  type ChangeRoleOptions,
  type DecisionFacts,
  type RolePreview,
} from "./administration.js";
export type { AssignableRole } from "./assignable-roles.js";
export type { AuditVerification, VerifyOptions } from "./audit-chain.js";
export type { AuditEntry } from "./audit-entry.js";
export type { ChangeWarning } from "./change-warnings.js";
export { databaseStore, storeMigration } from "./database-store.js";
export { type Ending, endingSoon } from "./ending.js";
export { type GridRows, gridRows, type RowOptions, type RowOutcome } from "./grid-rows.js";
export type { ProtectionEntry } from "./judge-protection.js";
export { type MemoryStore, type MemoryStoreOptions, memoryStore } from "./memory-store.js";
export { type LostCells, type MovedProtections, type MoveOptions, moveProtections } from "./move-protections.js";
export type { ProtectionPreview } from "./preview-protection.js";
export { type Protection, type ProtectionChange, protectionsIn } from "./protections.js";
export { type RangesAsProtections, rangesToProtections } from "./ranges-to-protections.js";
export type { RoleChange } from "./role-change.js";
export type { RoleOutcome } from "./role-outcome.js";
export type { AuditQuery, RoleStore, StoreChange } from "./role-store.js";
