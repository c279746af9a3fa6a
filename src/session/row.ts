import type { Row } from "../conditions/source.js";
import { type PortierError, portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";

/** Whether a value can be a record at all. */
export function isRow(value: unknown): value is Row {
  return isMapping(value);
}

export function wrongRecord(action: string, record: unknown): PortierError {
  const what = `${action} needs a record as an object, not ${record === undefined ? "nothing" : typeof record}`;
  return portierError("wrong-call", { what, hint: "to ask without a record, use reach" });
}
