import { type Field, isOwn, type Table } from "../schema/schema.js";
import { copyJson } from "../schema/types/json.js";
import type { ChangeContext } from "./change-context.js";

/** A new record of which nothing is given: defaults, nulls, and the person as its owner. */
export function standardRecord(context: ChangeContext, table: Table): Record<string, unknown> {
  const record: Record<string, unknown> = {};
  for (const field of table.fields) {
    if (isOwn(field)) {
      const own = ownerDefault(context, table, field);
      const known = own === undefined && field.defaultFrom !== undefined ? context.standard(field) : own;
      // What cannot be told is left out: it is unknown to every rule.
      if (known === undefined && field.defaultFrom !== undefined) continue;
      // A list or an opaque value is copied: whoever is given the record may change it.
      record[field.name] = known === undefined ? copyJson(field.default) : known;
    }
  }
  return record;
}

/**
 * The person who creates a record is its owner, where a field of the record itself holds the owner or owners. (In the
 * people table the owner is the key, and a new person is not the one who enters them.)
 */
function ownerDefault({ people, key }: ChangeContext, table: Table, field: Field): unknown {
  if (table.owner?.length !== 1 || table.owner[0] !== field || people === undefined || key == null) return undefined;
  if (field.type.target === people) return key;
  return field.type.element?.target === people ? [key] : undefined;
}
