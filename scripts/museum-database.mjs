// Puts the museum of the examples into a database, for trying filters, changes and the commands on one:
//   node scripts/museum-database.mjs                          an embedded PostgreSQL in examples/museum/database
//   DATABASE_URL=postgres://... node scripts/museum-database.mjs   an empty database on a server (or mysql://...)
import { existsSync } from "node:fs";
import { PGlite } from "@electric-sql/pglite";
import { createPool } from "mysql2/promise";
import pg from "pg";
import { mysql2Connection } from "../dist/adapters/mysql2.js";
import { pgConnection } from "../dist/adapters/pg.js";
import { pgliteConnection } from "../dist/adapters/pglite.js";
import { readMuseum, seedMuseum } from "../examples/museum/seed.mjs";

const museum = new URL("../examples/museum/", import.meta.url).pathname;
const { portier, records } = readMuseum();

const address = process.env.DATABASE_URL ?? `pglite:${museum}database`;
const { connection, close } = await open(address);

async function open(at) {
  if (at.startsWith("pglite:")) {
    const folder = at.slice("pglite:".length);
    if (existsSync(folder)) {
      console.error(`${folder} is there already; remove it to begin anew.`);
      process.exit(1);
    }
    const database = await PGlite.create(folder);
    return { connection: pgliteConnection(database), close: () => database.close() };
  }
  if (/^mysql|^mariadb/.test(at)) {
    const pool = createPool({ uri: at.replace(/^mariadb:/, "mysql:"), charset: "utf8mb4" });
    return { connection: mysql2Connection(pool), close: () => pool.end() };
  }
  const pool = new pg.Pool({ connectionString: at });
  return { connection: pgConnection(pool), close: () => pool.end() };
}

await seedMuseum(portier, connection, records, (done, total) => {
  process.stderr.write(`\r${done} of ${total} records`);
});
await close();
process.stderr.write(`\n`);
console.log(`The museum is in ${address.replace(/:[^/:@]*@/, "@")}. Look at it with
  npx portier show examples/museum/museum.portier.yaml objects --as s-003 --data ${address.replace(museum, "examples/museum/")}`);
