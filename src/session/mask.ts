import { fieldValue, type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import type { Yes } from "../conditions/yes.js";
import { type ActionTree, actionTree, type ShowAction } from "../rules/action-tree.js";
import type { Field } from "../schema/schema.js";
import { storedForm } from "../schema/types/stored-form.js";
import type { Gate } from "./gate.js";
import { lookupTest, lookupValue } from "./lookups.js";
import { ownCondition } from "./permits.js";
import { compileShowFields, type MaskedRow, type ShowFields } from "./shown-fields.js";
import { distinctWays, type TableGates } from "./table-gates.js";

export type Mask = (row: Row, reading: Reading) => MaskedRow | undefined;

/** What must hold for what: the distinct tests, and for each field those that it needs, by position. */
interface Needs {
  readonly tests: readonly Yes[];
  readonly of: ReadonlyMap<Field, readonly number[]>;
  /** The sets of tests that together show a record. */
  readonly visible: readonly (readonly number[])[];
}

const mostPatterns = 1_000;

/** Stands for a test that never holds. */
const never = -1;

/** Puts one field of a record into what is shown of it. */
type Copy = (row: Row, reading: Reading, into: MaskedRow) => void;

/** What is shown of all records of which the same tests hold. */
interface Pattern {
  readonly show: ShowFields;
  readonly copies: readonly Copy[];
}

const made = new WeakMap<TableGates, Map<ShowAction, Mask>>();

/** The function that masks records of a table: one for all who are alike. */
export function maskOf(plan: TableGates, action: ShowAction): Mask {
  const masks = made.get(plan) ?? new Map<ShowAction, Mask>();
  made.set(plan, masks);
  const known = masks.get(action);
  if (known !== undefined) return known;
  const mask = makeMask(plan, action);
  masks.set(action, mask);
  return mask;
}

/**
 * Makes the function that masks records of a table. It makes each distinct test once per record, and looks the resulting
 * pattern up among those seen before: a table has few, so the fields to copy are a ready list.
 *
 * What fails while a lookup is read hides that lookup alone, and is told to the reading.
 */
function makeMask(plan: TableGates, action: ShowAction): Mask {
  const { tests, of, visible } = needsOf(plan, action);
  const copies = new Map(plan.table.fields.map((field) => [field, makeCopy(plan, action, field)]));
  const patternOf = (holds: (test: number) => boolean): Pattern | undefined => {
    if (!visible.some((needed) => needed.every(holds))) return undefined;
    const fields = plan.table.fields.filter((field) => of.get(field)?.every(holds));
    return { show: compileShowFields(fields), copies: fields.map((field) => copies.get(field) as Copy) };
  };
  const known = new KnownPatterns(tests, patternOf);
  return (row, reading) => {
    const pattern = known.of(row, reading);
    if (pattern === undefined) return undefined;
    const shown = pattern.show(row);
    return shown ?? copyEach(pattern.copies, row, reading);
  };
}

/** A small integer holds this many tests. */
const bitsOfWord = 30;

type Word = Map<number, Word | Pattern | undefined>;

/** The patterns of records that were seen before, by the tests that hold: 30 of them a step. */
class KnownPatterns {
  readonly #tests: readonly Yes[];
  readonly #make: (holds: (test: number) => boolean) => Pattern | undefined;
  #first: Word = new Map();
  #size = 0;

  constructor(tests: readonly Yes[], make: (holds: (test: number) => boolean) => Pattern | undefined) {
    this.#tests = tests;
    this.#make = make;
  }

  of(row: Row, reading: Reading): Pattern | undefined {
    const tests = this.#tests;
    let word = this.#first;
    for (let from = 0; ; from += bitsOfWord) {
      const to = Math.min(tests.length, from + bitsOfWord);
      let bits = 0;
      for (let i = from; i < to; i++) if ((tests[i] as Yes)(row, reading)) bits |= 1 << (i - from);
      const next = word.get(bits);
      if (next instanceof Map) word = next;
      else if (next !== undefined || word.has(bits)) return next;
      else return this.#add(row, reading);
    }
  }

  #add(row: Row, reading: Reading): Pattern | undefined {
    // With many tests there could be more patterns than records.
    if (this.#size++ > mostPatterns) {
      this.#first = new Map();
      this.#size = 1;
    }
    const open = this.#tests.map((test) => test(row, reading));
    const pattern = this.#make((test) => open[test] === true);
    let word = this.#first;
    for (let from = 0; ; from += bitsOfWord) {
      const bits = open.slice(from, from + bitsOfWord).reduce((sum, holds, at) => (holds ? sum | (1 << at) : sum), 0);
      if (from + bitsOfWord >= open.length) {
        word.set(bits, pattern);
        return pattern;
      }
      const next = word.get(bits);
      const made: Word = next instanceof Map ? next : new Map();
      word.set(bits, made);
      word = made;
    }
  }
}

function copyEach(copies: readonly Copy[], row: Row, reading: Reading): MaskedRow {
  const masked: MaskedRow = {};
  for (let i = 0; i < copies.length; i++) (copies[i] as Copy)(row, reading, masked);
  return masked;
}

/** Of each field what the gates of its tree ask; whether what a lookup leads to is shown, its copy asks. */
function needsOf(gates: TableGates, action: ShowAction): Needs {
  const { table } = gates;
  const tests: Yes[] = [];
  const decided = new Map<Gate, Yes>();
  const needed = (tree: ActionTree): readonly number[] => {
    // The key is shown with any field, and nothing is shown where none is.
    if (tree.kind === "all") return [...new Set(tree.parts.flatMap(needed))];
    if (tree.kind !== "gate") return [];
    const condition = ownCondition(gates, tree);
    if (condition?.kind === "truth") return condition.value === True ? [] : [never];
    const gate = gates.gate(tree);
    const test = condition === undefined ? (decided.get(gate) ?? deciding(gate)) : gates.yes(condition);
    if (condition === undefined) decided.set(gate, test);
    return [tests.includes(test) ? tests.indexOf(test) : tests.push(test) - 1];
  };
  const of = table.fields.map((field) => [field, needed(actionTree(table, action, field))] as const);
  return { of: new Map(of), visible: waysOf(actionTree(table, action, undefined)), tests };

  /** Every set of tests that together show a record. */
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

/** What cannot be decided about some fields hides these alone. */
function deciding({ decide }: Gate): Yes {
  return (row, reading) => {
    try {
      return decide(row, reading).permitted;
    } catch (error) {
      reading.fault(error);
      return false;
    }
  };
}

/** Shows a value in its type's form. One that does not fit is reported and not shown; one that is not there is not. */
function show(field: Field, value: unknown, row: Row, reading: Reading, into: MaskedRow): void {
  if (value === undefined) return;
  const form = value === null ? null : storedForm(field.type, value);
  if (form === undefined) reading.badData(field, row);
  else into[field.name] = form;
}

function makeCopy(plan: TableGates, action: ShowAction, field: Field): Copy {
  const { name } = field;
  const { fits } = field.type;
  if (field.lookup !== undefined) return copyLookup(plan, action, field);
  const isPlain = field.by === undefined && !(name in Object.prototype);
  return (row, reading, into) => {
    const value = isPlain ? row[name] : field.by === undefined ? rawValue(row, name) : fieldValue(row, field);
    if (value === null || fits(value)) into[name] = value;
    else show(field, value, row, reading, into);
  };
}

function copyLookup(plan: TableGates, action: ShowAction, field: Field): Copy {
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
      reading.fault(error);
    }
  };
}
