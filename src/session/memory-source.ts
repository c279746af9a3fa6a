import type { Row, Source } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { type Schema, singleKey } from "../schema/schema.js";

/**
 * A {@link Source} over records in memory, indexed by key. Tables with a key of several fields cannot be referred to,
 * so they are not indexed.
 *
 * @throws PortierError for a table that the document does not know, and for a record without a key.
 */
export function memorySource(schema: Schema, data: Readonly<Record<string, readonly Row[]>>): Source {
  const index = new Map<string, Map<string, Row>>();
  for (const name of Object.keys(data)) {
    const table = schema.tables.get(name);
    if (table === undefined) throw portierError("unknown-table", { name, candidates: schema.tables.keys() });
    const key = singleKey(table);
    if (key === undefined) continue;
    const byKey = new Map<string, Row>();
    for (const [position, row] of (data[name] ?? []).entries()) {
      const value = key.type.canonical(row[key.name]);
      if (value === undefined) {
        throw portierError("missing-record-key", { table: name, field: key.name }, [name, position]);
      }
      byKey.set(String(value), row);
    }
    index.set(name, byKey);
  }
  return { find: (table, key) => index.get(table)?.get(key) };
}
