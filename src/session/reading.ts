import type { Reading } from "../conditions/read.js";
import type { Source } from "../conditions/source.js";
import type { Finding } from "./session.js";

/** How a session reads records: through its source, and with bad data reported. */
export function makeReading(source: Source | undefined, report: (finding: Finding) => void): Reading {
  return {
    source,
    badData(field, row) {
      const state = row[field.name] === undefined ? "is not there" : `is not ${field.type.expects}`;
      const message = `"${field.name}" of a record of "${field.table}" ${state}; it counts as unknown and is not shown`;
      report({ kind: "bad-data", message, table: field.table, field: field.name });
    },
  };
}
