import type { Command } from "commander";
import { jsonFileStore } from "../directory/json-file-store.js";
import { databaseStore } from "../people/database-store.js";
import type { RoleStore } from "../people/role-store.js";
import { singleKey } from "../schema/schema.js";
import type { Portier } from "../session/portier.js";
import { type DatabaseUse, databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { CliError } from "./io.js";
import { dataFolder, loadData, loadDocument, rolesFile } from "./load.js";

export interface StoreOptions {
  readonly data?: string;
}

/** Where a command finds people, and who holds what. */
export interface OpenStore {
  readonly portier: Portier;
  readonly store: RoleStore;
  /** `s-003 Odalys Quint`; the key alone for one who is not there. */
  readonly nameOf: (person: string) => Promise<string>;
}

export function declareData(command: Command): void {
  command.option(
    "--data <folder or database>",
    `people as TABLE.json or TABLE.csv, with who holds what in NAME.roles.json beside NAME.portier.yaml (default: the folder data there), or ${databaseAddresses}`,
  );
}

/** Opens what holds the roles of a document for as long as work takes. */
export function withStore<T>(
  file: string,
  { data }: StoreOptions,
  use: DatabaseUse,
  work: (open: OpenStore) => Promise<T>,
): Promise<T> {
  const { portier } = loadDocument(file);
  if (data !== undefined && isDatabase(data)) {
    return withDatabase(data, ({ connection }) => work(opened(portier, databaseStore(portier, connection))), use);
  }
  const folder = dataFolder(file, data);
  if (folder === undefined) throw new CliError("this needs the people: name a folder or a database with --data");
  const roles = rolesFile(file);
  const { source } = loadData(portier, folder, roles);
  return work(opened(portier, jsonFileStore(portier, roles, { source })));
}

function opened(portier: Portier, store: RoleStore): OpenStore {
  const { people } = portier.schema;
  const nameOf = async (person: string) => {
    const key = people && singleKey(people.table);
    if (people?.name === undefined || key === undefined) return person;
    const row = await store.read((source) => source.find(people.table.name, person));
    const name = row?.[people.name.name];
    return typeof name === "string" ? `${person} ${name}` : person;
  };
  return { portier, store, nameOf };
}
