// Puts the museum of the examples into a database, for trying filters, changes and the commands on one:
//   node scripts/museum-database.mjs                          an embedded PostgreSQL in examples/museum/database
//   DATABASE_URL=postgres://... node scripts/museum-database.mjs   an empty database on a server (or mysql://...)
import { existsSync, readdirSync, readFileSync } from "node:fs";
import { PGlite } from "@electric-sql/pglite";
import { createPool } from "mysql2/promise";
import pg from "pg";
import { mysql2Connection } from "../dist/adapters/mysql2.js";
import { pgConnection } from "../dist/adapters/pg.js";
import { pgliteConnection } from "../dist/adapters/pglite.js";
import { compileText, readData, readRoles } from "../dist/document/index.js";
import { storeMigration } from "../dist/people/index.js";
import { createTables } from "../dist/sql/index.js";

const museum = new URL("../examples/museum/", import.meta.url).pathname;
const portier = compileText(readFileSync(`${museum}museum.portier.yaml`, "utf8"), { file: "museum.portier.yaml" });
const files = readdirSync(`${museum}data`).map((file) => ({
  table: file.replace(".json", ""),
  file,
  text: readFileSync(`${museum}data/${file}`, "utf8"),
}));
const roles = { file: "museum.roles.json", text: readFileSync(`${museum}museum.roles.json`, "utf8") };
const { tables: records } = readData(portier, [...files, ...readRoles(roles)]);

const address = process.env.DATABASE_URL ?? `pglite:${museum}database`;
const { connection, close } = await open(address);
const { dialect } = connection;

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

/** Tables are filled before references are made, as they refer to each other in circles. */
const statements = createTables(portier.schema, dialect);
const references = statements.filter((statement) => statement.startsWith("alter"));
let done = 0;
const total = [...records.values()].reduce((sum, rows) => sum + rows.length, 0);
await connection.transaction(async (inside) => {
  for (const statement of statements) if (!references.includes(statement)) await inside.query(statement, []);
  for (const statement of storeMigration(portier, dialect)) await inside.query(statement, []);
  const { tables, kept } = portier.schema;
  for (const table of [...tables.values(), kept.assignments, kept.delegations]) {
    const fields = table.fields.filter((field) => field.lookup === undefined && field.by === undefined);
    const names = fields.map((field) => dialect.quoteName(field.column)).join(", ");
    const places = fields.map((_, index) => dialect.placeholder(index + 1)).join(", ");
    for (const row of records.get(table.name) ?? []) {
      const values = fields.map((field) =>
        row[field.name] == null ? null : dialect.encode(field.type, row[field.name]),
      );
      await inside.query(`insert into ${dialect.quoteName(table.source)} (${names}) values (${places})`, values);
      if (++done % 50 === 0 || done === total) process.stderr.write(`\r${done} of ${total} records`);
    }
  }
  for (const statement of references) await inside.query(statement, []);
});
await close();
process.stderr.write(`\n`);
console.log(`The museum is in ${address.replace(/:[^/:@]*@/, "@")}. Look at it with
  npx portier show examples/museum/museum.portier.yaml objects --as s-003 --data ${address.replace(museum, "examples/museum/")}`);
