import type { Row } from "../conditions/source.js";
import { type PortierError, portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";

/** Whether a value can be a record at all. */
export function isRow(value: unknown): value is Row {
  return isMapping(value);
}

/** A record as it was handed in. @throws PortierError (`wrong-call`) for what is none. */
export function rowOf(action: string, record: object): Row {
  if (isRow(record)) return record;
  throw wrongRecord(action, record);
}

export function wrongRecord(action: string, record: unknown): PortierError {
  const what = `${action} needs a record as an object, not ${record === undefined ? "nothing" : typeof record}`;
  return portierError("wrong-call", { what, hint: "to ask without a record, use reach" });
}
