import { selectRecords } from "../database/statements.js";
import type { Data } from "../document/data.js";
import { keptTablesOf } from "../schema/schema.js";
import type { Portier } from "../session/portier.js";
import { isDatabase, withDatabase } from "./database.js";
import { CliError } from "./io.js";
import { dataFolder, loadData, rolesFile } from "./load.js";

/**
 * Gives a command the records that it works on: of the folder or the database that was named, or of the folder `data`
 * beside the document; undefined where there is neither. A database is read once, every table whole, and left again.
 */
export function withRecords<T>(
  portier: Portier,
  file: string,
  named: string | undefined,
  work: (data: Data | undefined) => T | Promise<T>,
): T | Promise<T> {
  if (named !== undefined && isDatabase(named)) return readDatabase(portier, named).then(work);
  const folder = dataFolder(file, named);
  return work(folder === undefined ? undefined : loadData(portier, folder, rolesFile(file)));
}

/** The same for a command that can do nothing without. */
export function withNeededRecords<T>(
  portier: Portier,
  file: string,
  named: string | undefined,
  what: string,
  work: (data: Data) => T | Promise<T>,
): T | Promise<T> {
  return withRecords(portier, file, named, (data) => {
    if (data === undefined) throw new CliError(`${what} records: name a folder or a database with --data`);
    return work(data);
  });
}

function readDatabase(portier: Portier, address: string): Promise<Data> {
  return withDatabase(address, async ({ connection }) => {
    const tables: Data["tables"] = new Map(
      await Promise.all(
        [...portier.schema.tables.values(), ...keptTablesOf(portier.schema)].map(
          async (table) => [table.name, await selectRecords(connection, table, undefined)] as const,
        ),
      ),
    );
    return { tables, source: portier.source(Object.fromEntries(tables)) };
  });
}
