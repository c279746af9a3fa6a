import type { Reading } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import type { Finding } from "./session.js";

/**
 * A source whose answers are looked at: an object that is no record, such as a promise, would pass for one that anybody
 * with an unconditional permit knows of.
 */
function checkedSource(source: Source): Source {
  const isRecord = (row: unknown) => isMapping(row) && typeof row["then"] !== "function";
  const records = (table: string, rows: Iterable<Row> | undefined): Iterable<Row> => {
    if (typeof rows === "object" && rows !== null && Symbol.iterator in rows) return rows;
    throw portierError("bad-source", { table, expected: "records, one after the other", found: rows });
  };
  return {
    find: (table, key) => {
      const row = source.find(table, key);
      if (row === undefined || isRecord(row)) return row;
      throw portierError("bad-source", { table, expected: "a record, or undefined for none", found: row });
    },
    ...(source.referring && {
      referring: (table, field, key) => records(table, source.referring?.(table, field, key)),
    }),
    ...(source.all && { all: (table) => records(table, source.all?.(table)) }),
  };
}

/** How a session reads records: through its source, and with bad data reported. */
export function makeReading(source: Source | undefined, report: (finding: Finding) => void): Reading {
  return {
    source: source && checkedSource(source),
    badData(field, row) {
      const state = row[field.name] === undefined ? "is not there" : `is not ${field.type.expects}`;
      const message = `"${field.name}" of a record of "${field.table}" ${state}; it counts as unknown and is not shown`;
      report({ kind: "bad-data", message, table: field.table, field: field.name });
    },
  };
}
