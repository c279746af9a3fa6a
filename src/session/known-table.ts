import type { ActionName } from "../rules/actions.js";
import type { Field, Table } from "../schema/schema.js";
import type { Session } from "./session.js";

/** Actions by which a person can know of a field: it is shown, or may be given a value. */
const knowing = ["list", "view", "export", "edit", "bulk", "create", "import"] as const;

/**
 * A table as a person can know of it: without the fields and actions that no rule opens to them on any record. Undefined
 * where that leaves nothing: then the table does not exist for them.
 */
export function knownTable(
  session: Session,
  table: Table,
  actions: readonly ActionName[] = knowing,
): Table | undefined {
  const isReached = (action: ActionName, field?: Field) =>
    session.reach(action, table.name, field?.name as never) !== "none";
  if (!actions.some((action) => isReached(action))) return undefined;
  const fields = table.fields.filter((field) => actions.some((action) => isReached(action, field)));
  const byName = new Map(fields.map((field) => [field.name, field]));
  const owner = table.owner?.every((field) => field.table !== table.name || byName.has(field.name))
    ? table.owner
    : undefined;
  const own = table.actions.filter((action) => isReached(action));
  return { ...table, fields, byName, owner, actions: own };
}
