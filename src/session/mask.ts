import { type Reading, rawValue } from "../conditions/evaluate.js";
import type { Row } from "../conditions/source.js";
import type { Field, Table } from "../schema/schema.js";
import type { Gate } from "./gate.js";
import type { Visibility } from "./table-gates.js";

/** A record as a person sees it: the visible fields with their stored values. What is hidden is not there at all. */
export type MaskedRow = Record<string, unknown>;

export type Mask = (row: Row, reading: Reading) => MaskedRow | undefined;

/**
 * Makes the function that masks records of a table. It judges each distinct gate once per record, and looks the
 * resulting pattern of gates up among those seen before: a table has few, so the fields to copy are a ready list.
 */
export function makeMask(table: Table, seen: Visibility): Mask {
  const { distinct } = seen;
  const patterns = new Map<number, readonly Field[]>();
  return (row, reading) => {
    // A small integer holds up to 30 gates; a table with more pays for a list.
    if (distinct.length > 30) return maskWithMany(table, seen, row, reading);
    let bits = 0;
    for (let i = 0; i < distinct.length; i++) {
      if ((distinct[i] as Gate).decide(row, reading).permitted) bits |= 1 << i;
    }
    if (bits === 0) return undefined;
    let fields = patterns.get(bits);
    if (fields === undefined) {
      const open = bits;
      fields = fieldsOf(table, seen, (gate) => (open & (1 << gate)) !== 0);
      patterns.set(bits, fields);
    }
    return copy(row, fields, reading);
  };
}

function maskWithMany(table: Table, seen: Visibility, row: Row, reading: Reading): MaskedRow | undefined {
  const open = seen.distinct.map((gate) => gate.decide(row, reading).permitted);
  return open.includes(true)
    ? copy(
        row,
        fieldsOf(table, seen, (gate) => open[gate] === true),
        reading,
      )
    : undefined;
}

function fieldsOf(table: Table, seen: Visibility, isOpen: (gate: number) => boolean): readonly Field[] {
  return table.fields.filter((field) => {
    const gate = seen.gateIndex[field.index] ?? -1;
    return gate === -1 || isOpen(gate);
  });
}

/** Copies the fields whose stored value fits its type; one that does not is reported and not shown. */
function copy(row: Row, fields: readonly Field[], reading: Reading): MaskedRow {
  const masked: MaskedRow = {};
  for (let i = 0; i < fields.length; i++) {
    const field = fields[i] as Field;
    const value = field.name in Object.prototype ? rawValue(row, field.name) : row[field.name];
    if (value === null || field.type.canonical(value) !== undefined) masked[field.name] = value;
    else if (value !== undefined) reading.badData(field, row);
  }
  return masked;
}
