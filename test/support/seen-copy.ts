import type { Row, Session } from "portier";
import { afterAll, beforeAll } from "vitest";
import { isOwn } from "../../src/schema/schema.js";
import { allTables, createTables, type Engine, fill } from "./engines.js";
import { portier, records } from "./museum.js";

/** The museum in a database, and an empty copy of its tables for {@link fillSeen}: there while the tests of a block run. */
export function withCopy(open: () => Promise<Engine>): { readonly engine: Engine; readonly copy: Engine } {
  const databases = {} as { engine: Engine; copy: Engine };
  beforeAll(async () => {
    databases.engine = await open();
    databases.copy = await open();
    for (const one of Object.values(databases)) await createTables(one, portier.schema);
    for (const table of allTables(portier.schema)) await fill(databases.engine, table, records(table.name));
  });
  afterAll(async () => {
    for (const one of Object.values(databases)) await one.close();
  });
  return databases;
}

/** Replaces the records of the copy by what a person sees of the museum: a hidden value is null. */
export async function fillSeen(copy: Engine, session: Session): Promise<void> {
  for (const table of portier.schema.tables.values()) {
    const fields = table.fields.filter(isOwn);
    const seen = session.maskAll(table.name, records(table.name)) as Row[];
    await copy.run(`delete from ${copy.dialect.quoteName(table.source)}`);
    const rows = seen.map((row) => Object.fromEntries(fields.map(({ name }) => [name, row[name] ?? null])));
    await fill(copy, table, rows);
  }
}

/** Rows in an order of their own, to compare two results; an error by its message. */
export function sorted(rows: unknown): string[] | string {
  return Array.isArray(rows) ? rows.map((row) => JSON.stringify(row)).sort() : String(rows);
}
