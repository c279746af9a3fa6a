import { fieldValue, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { ShowAction } from "../rules/action-tree.js";
import { portierError } from "../schema/problems.js";
import type { Field } from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";
import type { Decide } from "./gate.js";
import type { TableGates } from "./table-gates.js";

/**
 * Whether what a lookup leads to may be shown: the same action on the source field of the source record. A null reference
 * shows null; a missing record is as hidden as a forbidden one.
 */
export function lookupTest(
  plan: TableGates,
  action: ShowAction,
  { lookup }: Field,
): (row: Row, reading: Reading) => boolean {
  if (lookup === undefined) return () => true;
  const { through, field } = lookup;
  let source: Decide | undefined;
  const throughLookup = through.lookup === undefined ? undefined : lookupTest(plan, action, through);
  return (row, reading) => {
    // Shown through another lookup: that one must show, as well.
    if (throughLookup !== undefined && !throughLookup(row, reading)) return false;
    const found = followLookup(plan, through, row, reading);
    if (found === null) return true;
    if (found === undefined) return false;
    // Made when it is first asked: a table may show something of its own through itself.
    source ??= plan.other(field.table).decision(action, field.name);
    return source(found, reading).permitted;
  };
}

/** The value that a lookup shows, whether or not it may be shown: null for a null reference. */
export function lookupValue(plan: TableGates, field: Field, row: Row, reading: Reading): unknown {
  const { lookup } = field;
  if (lookup === undefined) return fieldValue(row, field);
  const found = followLookup(plan, lookup.through, row, reading);
  if (found === null || found === undefined) return found;
  return lookupValue(plan.other(lookup.field.table), lookup.field, found, reading);
}

/** The record that a lookup's reference leads to: null for a null reference, undefined when missing or unreadable. */
function followLookup(plan: TableGates, through: Field, row: Row, reading: Reading): Row | null | undefined {
  const raw = lookupValue(plan, through, row, reading);
  if (raw === null) return null;
  const key = storedValue(through.type, raw);
  if (key === undefined) {
    if (through.lookup === undefined) reading.badData(through, row);
    return undefined;
  }
  if (reading.source === undefined) {
    throw portierError("needs-source", { what: `the lookup through "${through.name}"` });
  }
  return reading.source.find(through.type.target ?? "", String(key));
}
