export type { Assignment, Delegation } from "../session/roles/assignment.js";
export {
  type Administration,
  type Administrator,
  type AdministratorOptions,
  administration,
  type ChangeRoleOptions,
  type DecisionFacts,
  type RolePreview,
} from "./administration.js";
export type { ChangeWarning } from "./change-warnings.js";
export { databaseStore, storeMigration } from "./database-store.js";
export { type Ending, endingSoon } from "./ending.js";
export type { GivableRole } from "./givable-roles.js";
export { type GridRows, gridRows, type RowOptions, type RowOutcome } from "./grid-rows.js";
export type { ListedProtection } from "./judge-protection.js";
export { type MemoryStore, type MemoryStoreOptions, memoryStore } from "./memory-store.js";
export { type LostCells, type MovedProtections, type MoveOptions, moveProtections } from "./move-protections.js";
export type { ProtectionPreview } from "./preview-protection.js";
export { type Protection, type ProtectionChange, protectionsIn } from "./protections.js";
export { type RangesAsProtections, rangesToProtections } from "./ranges-to-protections.js";
export type { RecordVerification, VerifyOptions } from "./record-chain.js";
export type { RecordEntry } from "./record-entry.js";
export type { RoleChange } from "./role-change.js";
export type { RoleOutcome } from "./role-outcome.js";
export type { EntriesOptions, RoleStore, StoreChange } from "./role-store.js";
