export type {
  Acting,
  ActingChange,
  ActingCreate,
  KeyedChange,
} from "./acting.js";
export type { Connection, DriverRow } from "./connection.js";
export { ConflictError, ConstraintError, RecordChanged } from "./errors.js";
export type { Listed, ListQuery } from "./listing.js";
export { type Database, openDatabase } from "./open-database.js";
export type { ActingOptions } from "./work.js";
