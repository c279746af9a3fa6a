import { fieldValue, type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { type Field, isOwn } from "../schema/schema.js";
import { storedForm } from "../schema/types/stored-form.js";
import type { Gate } from "./gate.js";
import { lookupTest, lookupValue } from "./lookups.js";
import type { TableGates } from "./table-gates.js";

/** A record as a person sees it: the visible fields with their stored values. What is hidden is not there at all. */
export type MaskedRow = Record<string, unknown>;

export type Mask = (row: Row, reading: Reading) => MaskedRow | undefined;

/** The actions that show records. */
export type ShowAction = "list" | "view" | "export";

/** Which gates must be open for what: the distinct ones, and for each field those that it needs, by position. */
interface Needs {
  readonly gates: readonly Gate[];
  readonly of: ReadonlyMap<Field, readonly number[]>;
  /** Of each field that can make a record visible, the gates that do. */
  readonly visible: readonly (readonly number[])[];
}

type IsOpen = (row: Row, reading: Reading) => boolean;

/** Puts one field of a record into what is shown of it. */
type Copy = (row: Row, reading: Reading, into: MaskedRow) => void;

/**
 * Makes the function that masks records of a table. It judges each distinct gate once per record, and looks the
 * resulting pattern of gates up among those seen before: a table has few, so the fields to copy are a ready list.
 *
 * What fails while a lookup is read hides that lookup alone, and goes to `fault`.
 */
export function makeMask(plan: TableGates, action: ShowAction, fault: (error: unknown) => void): Mask {
  const needs = action === "export" ? exportNeeds(plan) : seenNeeds(plan, action);
  const gates = needs.gates.map(({ decide }) => {
    // What cannot be decided about some fields hides these alone.
    const isOpen: IsOpen = (row, reading) => {
      try {
        return decide(row, reading).permitted;
      } catch (error) {
        fault(error);
        return false;
      }
    };
    return isOpen;
  });
  const copies = new Map(plan.table.fields.map((field) => [field, makeCopy(plan, action, field, fault)]));
  const patternOf = (isOpen: (gate: number) => boolean) => {
    if (!needs.visible.some((needed) => needed.every(isOpen))) return undefined;
    return shownFields(plan, needs, isOpen).map((field) => copies.get(field) as Copy);
  };
  // A small integer holds up to 30 gates; a table with more pays for a list.
  if (gates.length > 30) {
    return (row, reading) => {
      const open = gates.map((isOpen) => isOpen(row, reading));
      return copyAll(
        patternOf((gate) => open[gate] === true),
        row,
        reading,
      );
    };
  }
  const patterns = new Map<number, readonly Copy[] | undefined>();
  return (row, reading) => {
    let bits = 0;
    for (let i = 0; i < gates.length; i++) {
      if ((gates[i] as IsOpen)(row, reading)) bits |= 1 << i;
    }
    let pattern = patterns.get(bits);
    if (pattern === undefined && !patterns.has(bits)) {
      const open = bits;
      pattern = patternOf((gate) => (open & (1 << gate)) !== 0);
      patterns.set(bits, pattern);
    }
    return copyAll(pattern, row, reading);
  };
}

function copyAll(pattern: readonly Copy[] | undefined, row: Row, reading: Reading): MaskedRow | undefined {
  if (pattern === undefined) return undefined;
  const masked: MaskedRow = {};
  for (let i = 0; i < pattern.length; i++) (pattern[i] as Copy)(row, reading, masked);
  return masked;
}

function seenNeeds(plan: TableGates, action: "list" | "view"): Needs {
  const { gates, distinct, visible } = plan.seen(action);
  const { table } = plan;
  const indexOf = (field: Field) => distinct.indexOf(gates[field.index] as Gate);
  return {
    gates: distinct,
    of: new Map(table.fields.map((field) => [field, table.key.includes(field) ? [] : [indexOf(field)]])),
    visible: visible.map((gate) => [distinct.indexOf(gate)]),
  };
}

/** What is taken out must be viewed and exported, each by its own rules; the key goes along with any field. */
function exportNeeds(plan: TableGates): Needs {
  const view = plan.seen("view");
  const out = plan.fields("export");
  const { table } = plan;
  const gates = [...view.distinct, ...out.distinct];
  const outIndex = (field: Field) => view.distinct.length + out.distinct.indexOf(out.gates[field.index] as Gate);
  const viewIndex = (field: Field) => view.distinct.indexOf(view.gates[field.index] as Gate);
  const visible = table.fields
    .filter(isOwn)
    .flatMap((field) =>
      table.key.includes(field)
        ? view.visible.map((gate) => [view.distinct.indexOf(gate), outIndex(field)])
        : [[viewIndex(field), outIndex(field)]],
    );
  const of = table.fields.map((field) => {
    const needed = table.key.includes(field) ? [] : [viewIndex(field), outIndex(field)];
    return [field, needed] as const;
  });
  return { gates, of: new Map(of), visible };
}

function shownFields({ table }: TableGates, needs: Needs, isOpen: (gate: number) => boolean): readonly Field[] {
  const isShown = (field: Field): boolean =>
    (needs.of.get(field) ?? []).every(isOpen) && (field.by === undefined || field.by.every(isShown));
  return table.fields.filter(isShown);
}

/** Shows a value in its type's form. One that does not fit is reported and not shown; one that is not there is not. */
function show(field: Field, value: unknown, row: Row, reading: Reading, into: MaskedRow): void {
  if (value === undefined) return;
  const form = value === null ? null : storedForm(field.type, value);
  if (form === undefined) reading.badData(field, row);
  else into[field.name] = form;
}

function makeCopy(plan: TableGates, action: ShowAction, field: Field, fault: (error: unknown) => void): Copy {
  const { name } = field;
  const { fits } = field.type;
  if (field.lookup !== undefined) return copyLookup(plan, action, field, fault);
  const isPlain = field.by === undefined && !(name in Object.prototype);
  return (row, reading, into) => {
    const value = isPlain ? row[name] : field.by === undefined ? rawValue(row, name) : fieldValue(row, field);
    if (value === null || fits(value)) into[name] = value;
    else show(field, value, row, reading, into);
  };
}

function copyLookup(plan: TableGates, action: ShowAction, field: Field, fault: (error: unknown) => void): Copy {
  // What is exported must also be viewed where it comes from.
  const tests = (action === "export" ? (["view", "export"] as const) : [action]).map((one) =>
    lookupTest(plan, one, field),
  );
  return (row, reading, into) => {
    try {
      if (!tests.every((sees) => sees(row, reading))) return;
      const value = lookupValue(plan, field, row, reading);
      show(field, value, row, reading, into);
    } catch (error) {
      fault(error);
    }
  };
}
