import type { PGlite } from "@electric-sql/pglite";

/** An embedded PostgreSQL in memory, empty. */
export function embeddedPostgres(): Promise<PGlite>;
