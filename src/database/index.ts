export type { Identity, IdentityOrKey } from "../session/identity.js";
export type { Observation } from "../session/observation.js";
export type { Diagnostic } from "../session/session-options.js";
export type { Connection, DriverRow } from "./connection.js";
export { replicaMigration } from "./count-changes.js";
export { createDatabase, type Database, type DatabaseOptions } from "./create-database.js";
export { ConflictError, ConstraintError, RecordChanged, ReplicaBehind } from "./errors.js";
export type { ListQuery, Page } from "./listing.js";
export type { Observe } from "./observing.js";
export type { ReplicaOptions } from "./replica.js";
export type {
  DatabaseChangeOptions,
  DatabaseCreateOptions,
  KeyedChange,
  UserDatabase,
} from "./user-database.js";
