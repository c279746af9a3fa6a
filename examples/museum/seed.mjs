// The museum's document and records, and how they get into a database: for the script and the application of the museum.
import { readdirSync, readFileSync } from "node:fs";
import { compileText, readData, readRoles } from "portier/document";
import { storeMigration } from "portier/people";
import { createTables } from "portier/sql";

const museum = new URL("./", import.meta.url).pathname;

/** The document, as text and compiled, and its records by table. */
export function readMuseum(folder = museum) {
  const file = "museum.portier.yaml";
  const text = readFileSync(`${folder}${file}`, "utf8");
  const portier = compileText(text, { file });
  const files = readdirSync(`${folder}data`).map((name) => ({
    table: name.replace(".json", ""),
    file: name,
    text: readFileSync(`${folder}data/${name}`, "utf8"),
  }));
  const roles = { file: "museum.roles.json", text: readFileSync(`${folder}museum.roles.json`, "utf8") };
  return { portier, text, records: readData(portier, [...files, ...readRoles(roles)]).tables };
}

/** Rows of one statement: no database takes parameters without end. */
const rowsAtOnce = 100;

/**
 * Makes the museum's tables in an empty database and fills them, all of it or nothing. Tables are filled before references
 * are made, as they refer to each other in circles.
 *
 * @param {import("portier").Portier} portier
 * @param {import("portier/database").Connection} connection
 * @param {ReadonlyMap<string, readonly import("portier").Row[]>} records
 * @param {(done: number, total: number) => void} [onProgress]
 */
export async function seedMuseum(portier, connection, records, onProgress = () => {}) {
  const { dialect } = connection;
  const statements = createTables(portier.schema, dialect);
  const references = statements.filter((statement) => statement.startsWith("alter"));
  const total = [...records.values()].reduce((sum, rows) => sum + rows.length, 0);
  let done = 0;
  await connection.transaction(async (inside) => {
    for (const statement of statements) if (!references.includes(statement)) await inside.query(statement, []);
    for (const statement of storeMigration(portier, dialect)) await inside.query(statement, []);
    const { tables, kept } = portier.schema;
    for (const table of [
      ...tables.values(),
      ...(kept === undefined ? [] : [kept.assignments, kept.delegations, kept.protections].filter(Boolean)),
    ]) {
      const fields = table.fields.filter((field) => field.lookup === undefined && field.by === undefined);
      const names = fields.map((field) => dialect.quoteName(field.column)).join(", ");
      const rows = records.get(table.name) ?? [];
      for (let from = 0; from < rows.length; from += rowsAtOnce) {
        const some = rows.slice(from, from + rowsAtOnce);
        const places = some.map((_, line) => {
          const own = fields.map((_, index) => dialect.placeholder(line * fields.length + index + 1));
          return `(${own.join(", ")})`;
        });
        const values = some.flatMap((row) =>
          fields.map(({ name, type }) => (row[name] == null ? null : dialect.encode(type, row[name]))),
        );
        const into = `insert into ${dialect.quoteName(table.source)} (${names})`;
        await inside.query(`${into} values ${places.join(", ")}`, values);
        done += some.length;
        onProgress(done, total);
      }
    }
    for (const statement of references) await inside.query(statement, []);
  });
}
