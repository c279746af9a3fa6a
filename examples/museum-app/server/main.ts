// The museum's application: on an embedded PostgreSQL in memory, or on the database that DATABASE_URL names, which is
// filled where it is empty. PORT says where it listens (default 4174), on this machine alone; MUSEUM_NOW is an instant at which
// the day stands still.
import { fileURLToPath } from "node:url";
import type { PGlite } from "@electric-sql/pglite";
import { serve } from "@hono/node-server";
import pg from "pg";
import { compile, type Portier, type Row } from "portier";
import type { Connection } from "portier/database";
import { parseDocument } from "portier/document";
import { rangesToProtections } from "portier/people";
import { pgConnection } from "portier/pg";
import { pgliteConnection } from "portier/pglite";
import { museumApp } from "./app.js";
import { planRows, workOutTotals } from "./plan-rows.js";

interface Embedded {
  embeddedPostgres(): Promise<PGlite>;
}

interface Seed {
  readMuseum(): { portier: Portier; text: string; records: ReadonlyMap<string, readonly Row[]> };
  seedMuseum(
    portier: Portier,
    connection: Connection,
    records: ReadonlyMap<string, readonly Row[]>,
    onProgress?: (done: number, total: number) => void,
  ): Promise<void>;
}

const here = fileURLToPath(new URL("../../", import.meta.url));
const ofMuseum = (file: string) => import(new URL(`../../../museum/${file}`, import.meta.url).href);
const { readMuseum, seedMuseum }: Seed = await ofMuseum("seed.mjs");
const { text, records } = readMuseum();
// What the museum's rules fix in the plan is data here: it moves with the rows, and people change it themselves.
const { document, protections } = rangesToProtections(parseDocument(text).document, "plan", "2026-11-01T09:00:00Z");
const portier = compile(document);
const address = process.env["DATABASE_URL"];
const { embeddedPostgres }: Embedded = await ofMuseum("embedded-postgres.mjs");
const connection =
  address === undefined
    ? pgliteConnection(await embeddedPostgres())
    : // See docs/filters.md: conditions on other records cost less than PostgreSQL thinks.
      pgConnection(new pg.Pool({ connectionString: address, options: "-c jit=off" }));
if (!(await isFilled())) {
  const plan = records.get("plan") ?? [];
  const more = planRows(records.get("exhibitions") ?? [], plan.length + 1);
  const filled = new Map<string, readonly Row[]>([
    ...records,
    ["plan", [...plan, ...more]],
    ["portier_protections", protections.map((one) => ({ ...one, by: "s-001" }))],
  ]);
  await seedMuseum(portier, connection, filled, (done, total) => {
    process.stderr.write(`\r${done} of ${total} records`);
  });
  process.stderr.write("\n");
}
await workOutTotals(portier, connection);
const app = museumApp(portier, connection, `${here}dist`, { now: process.env["MUSEUM_NOW"] });
const server = serve(
  { fetch: app.fetch, hostname: "127.0.0.1", port: Number(process.env["PORT"] ?? 4174) },
  ({ port }) => console.log(`The museum's application: http://127.0.0.1:${port}/`),
);
// Longer than browsers and proxies keep a connection that rests: none of them sends into one that is just being closed.
if ("keepAliveTimeout" in server) server.keepAliveTimeout = 65_000;
process.on("SIGTERM", () => server.close(() => process.exit(0)));

async function isFilled(): Promise<boolean> {
  try {
    return (await connection.query("select 1 as one from staff limit 1", [])).length > 0;
  } catch {
    return false;
  }
}
