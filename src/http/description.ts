import { knownTable } from "../session/known-table.js";
import { type Call, isKnown, json } from "./call.js";
import { openApi } from "./openapi.js";

/** The interface as the person can know of it: without tables, fields, choices and actions that no rule opens to them. */
export async function description({ database, schema, options }: Call): Promise<Response> {
  const tables = await database.ask((session) => {
    const known = [...schema.tables.values()]
      .filter((table) => isKnown(session, table))
      .map((table) => knownTable(session, table))
      .filter((table) => table !== undefined);
    return new Map(known.map((table) => [table.name, table]));
  });
  return json(
    openApi(tables, {
      base: options.base ?? "",
      actions: options.actions ?? {},
      ...(options.description && { description: options.description }),
    }),
  );
}
