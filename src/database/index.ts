export type { Observation } from "../session/observation.js";
export type {
  Acting,
  ActingChange,
  ActingCreate,
  KeyedChange,
} from "./acting.js";
export type { Connection, DriverRow } from "./connection.js";
export { ConflictError, ConstraintError, RecordChanged } from "./errors.js";
export type { Listed, ListQuery } from "./listing.js";
export type { Observe } from "./observing.js";
export { type Database, type DatabaseOptions, openDatabase } from "./open-database.js";
export type { ActingOptions } from "./work.js";
