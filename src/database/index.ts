export type { Acting, ActingOptions } from "./acting.js";
export type { Connection, DriverRow } from "./connection.js";
export { type Database, openDatabase } from "./open-database.js";
