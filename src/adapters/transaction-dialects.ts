import type { Connection } from "../database/connection.js";
import type { Dialect } from "../sql/dialect.js";
import { mariadbErrors } from "./mysql2.js";
import { sqliteErrors } from "./sqlite.js";
import { postgresErrors, standingInMariadb, standingInPostgres, standingInSqlite } from "./transaction.js";

// A query builder works with several databases: what is the driver's own otherwise goes by the dialect.

type Errors = Pick<Connection, "isConflict" | "isDuplicate" | "isConstraint">;

const errors: Readonly<Record<Dialect["name"], Errors>> = {
  postgres: postgresErrors,
  mariadb: mariadbErrors,
  sqlite: sqliteErrors,
};

const standing = { postgres: standingInPostgres, mariadb: standingInMariadb, sqlite: standingInSqlite } as const;

export function errorsOf({ name }: Dialect): Errors {
  return errors[name];
}

export function standingIn({ name }: Dialect) {
  return standing[name];
}
