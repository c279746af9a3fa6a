export {
  type Acting,
  type ActingChange,
  type ActingCreate,
  type ActingOptions,
  type KeyedChange,
  RecordChanged,
} from "./acting.js";
export type { Connection, DriverRow } from "./connection.js";
export type { Listed, ListQuery } from "./listing.js";
export { type Database, openDatabase } from "./open-database.js";
