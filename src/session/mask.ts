import { fieldValue, type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { type ActionTree, actionTree, type ShowAction } from "../rules/action-tree.js";
import type { Field } from "../schema/schema.js";
import { storedForm } from "../schema/types/stored-form.js";
import type { Gate } from "./gate.js";
import { lookupTest, lookupValue } from "./lookups.js";
import { distinctWays, type TableGates } from "./table-gates.js";

/** A record as a person sees it: the visible fields with their stored values. What is hidden is not there at all. */
export type MaskedRow = Record<string, unknown>;

export type Mask = (row: Row, reading: Reading) => MaskedRow | undefined;

/** Which gates must be open for what: the distinct ones, and for each field those that it needs, by position. */
interface Needs {
  readonly gates: readonly Gate[];
  readonly of: ReadonlyMap<Field, readonly number[]>;
  /** The sets of gates that together show a record. */
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
  const needs = needsOf(plan, action);
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
    return plan.table.fields
      .filter((field) => needs.of.get(field)?.every(isOpen))
      .map((field) => copies.get(field) as Copy);
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

/** Of each field the gates of its tree; whether what a lookup leads to is shown, its copy asks. */
function needsOf(gates: TableGates, action: ShowAction): Needs {
  const { table } = gates;
  const distinct: Gate[] = [];
  const indexOf = (gate: Gate) => (distinct.includes(gate) ? distinct.indexOf(gate) : distinct.push(gate) - 1);
  const needed = (tree: ActionTree): readonly number[] => {
    if (tree.kind === "gate") return [indexOf(gates.gate(tree))];
    // The key is shown with any field, and nothing is shown where none is.
    return tree.kind === "all" ? [...new Set(tree.parts.flatMap(needed))] : [];
  };
  const of = table.fields.map((field) => [field, needed(actionTree(table, action, field))] as const);
  return { of: new Map(of), visible: waysOf(actionTree(table, action, undefined)), gates: distinct };

  /** Every set of gates that together show a record. */
  function waysOf(tree: ActionTree): readonly (readonly number[])[] {
    switch (tree.kind) {
      case "any":
        return distinctWays(gates, tree.ways).flatMap((way) => waysOf(way.tree));
      case "all":
        return tree.parts
          .map(waysOf)
          .reduce((some, more) => some.flatMap((one) => more.map((other) => [...one, ...other])));
      default:
        return [needed(tree)];
    }
  }
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
