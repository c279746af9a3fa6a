import { describeExpression } from "../conditions/describe.js";
import { compileTest, type Judge } from "../conditions/evaluate.js";
import { type Expression, isMade, type Operand, operandsOf, visitTests } from "../conditions/expression.js";
import { type Reading, rawValue } from "../conditions/read.js";
import { keyOf } from "../conditions/simplify.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import type { Field, FieldPath } from "../schema/schema.js";

/**
 * A set of records of one table, by their positions: bit `i % 32` of word `i >> 5`. Sets are never changed once they are
 * made, as many answers share them.
 */
export type RecordSet = Uint32Array;

/**
 * Finds out which records meet conditions, for many conditions about the same records. A single test is asked once,
 * whoever's condition it stands in; one that reads one field of the record is asked once for each value of that field.
 * Conditions then meet as sets: "and" and "or" are intersection and union, as every "not" stands at a single test.
 */
export class RecordSets {
  readonly size: number;
  readonly none: RecordSet;
  readonly all: RecordSet;
  readonly #rows: readonly Row[];
  readonly #tests = new Map<string, RecordSet>();
  readonly #values = new Map<string, readonly (readonly number[])[]>();

  constructor(rows: readonly Row[]) {
    this.#rows = rows;
    this.size = rows.length;
    this.none = new Uint32Array((rows.length + 31) >>> 5);
    this.all = this.where(() => true);
  }

  /**
   * The records for which a condition is true. `scope` names those for whom `may` has the same answers as `judge` gives.
   */
  meeting(condition: Expression, reading: Reading, judge: Judge, scope: string): RecordSet {
    switch (condition.kind) {
      case "truth":
        return condition.value === True ? this.all : this.none;
      case "and":
        return condition.terms.reduce(
          (set, term) => (set === this.none ? set : this.both(set, this.meeting(term, reading, judge, scope))),
          this.all,
        );
      case "or":
        return this.any(condition.terms.map((term) => this.meeting(term, reading, judge, scope)));
      default:
        return this.#test(condition, reading, judge, scope);
    }
  }

  both(a: RecordSet, b: RecordSet): RecordSet {
    if (a === this.none || b === this.none) return this.none;
    if (a === b || b === this.all) return a;
    if (a === this.all) return b;
    return a.map((word, index) => word & (b[index] as number));
  }

  any(sets: readonly RecordSet[]): RecordSet {
    const parts = [...new Set(sets)].filter((set) => set !== this.none);
    const [first, ...more] = parts;
    if (first === undefined) return this.none;
    if (parts.includes(this.all)) return this.all;
    if (more.length === 0) return first;
    const joined = first.slice();
    for (const set of more) {
      for (let i = 0; i < joined.length; i++) joined[i] = (joined[i] as number) | (set[i] as number);
    }
    return joined;
  }

  /** The records that a function picks; asked of each, once. */
  where(picks: (row: Row) => boolean): RecordSet {
    const set = this.none.slice();
    for (let i = 0; i < this.size; i++) if (picks(this.#rows[i] as Row)) add(set, i);
    return set;
  }

  /** The same for a function whose answer depends on one field: asked once for each value of it. */
  whereBy(field: Field, picks: (row: Row) => boolean): RecordSet {
    if (field.by !== undefined || field.lookup !== undefined) return this.where(picks);
    const set = this.none.slice();
    for (const positions of this.#byValue(field)) {
      if (!picks(this.#rows[positions[0] as number] as Row)) continue;
      for (let i = 0; i < positions.length; i++) add(set, positions[i] as number);
    }
    return set;
  }

  #test(test: Expression, reading: Reading, judge: Judge, scope: string): RecordSet {
    const single = test.kind === "not" ? test.term : test;
    // What makes somebody a member is not told by its name: two documents may mean something else by it.
    const members = asksOfPersons(single) ? keyOf(test) : "";
    const key = `${test.kind} ${single.kind} ${asksMay(single) ? `${scope} ` : ""}${describeExpression(test)} ${members}`;
    const known = this.#tests.get(key);
    if (known !== undefined) return known;
    const run = compileTest(test, judge);
    const picks = (row: Row) => run(row, reading) === True;
    const [field, ...more] = fieldsRead(single);
    const set = field !== undefined && more.length === 0 ? this.whereBy(field, picks) : this.where(picks);
    this.#tests.set(key, set);
    return set;
  }

  /** The positions of the records with the same value of a field, value by value. */
  #byValue({ name }: Field): readonly (readonly number[])[] {
    const known = this.#values.get(name);
    if (known !== undefined) return known;
    const groups = new Map<unknown, number[]>();
    for (let i = 0; i < this.size; i++) {
      const raw = rawValue(this.#rows[i] as Row, name);
      // Texts by their spelling, numbers and null by themselves: what is equal here reads as the same value.
      const value = typeof raw === "object" && raw !== null ? (JSON.stringify(raw) ?? raw) : raw;
      const id =
        typeof raw === "object" && raw !== null
          ? `object ${String(value)}`
          : typeof raw === "string"
            ? `text ${raw}`
            : raw;
      const group = groups.get(id);
      if (group === undefined) groups.set(id, [i]);
      else group.push(i);
    }
    const found = [...groups.values()];
    this.#values.set(name, found);
    return found;
  }
}

function add(set: RecordSet, position: number): void {
  const word = position >>> 5;
  set[word] = (set[word] as number) | (1 << (position & 31));
}

/** The records of one set that are not in the other. */
export function without(set: RecordSet, other: RecordSet): RecordSet {
  return set.map((word, index) => word & ~(other[index] as number));
}

const sizes = new WeakMap<RecordSet, number>();

/** How many records are in a set. Many answers share one: it is counted once. */
export function sizeOf(set: RecordSet): number {
  const known = sizes.get(set);
  if (known !== undefined) return known;
  let size = 0;
  for (let i = 0; i < set.length; i++) {
    // Adds up the bits of a word in pairs, nibbles and bytes (the usual parallel count).
    let word = set[i] as number;
    word -= (word >>> 1) & 0x55555555;
    word = (word & 0x33333333) + ((word >>> 2) & 0x33333333);
    size += (((word + (word >>> 4)) & 0x0f0f0f0f) * 0x01010101) >>> 24;
  }
  sizes.set(set, size);
  return size;
}

/** The positions of the records of a set, in order, at most `most`. */
export function positionsOf(set: RecordSet, most = Number.POSITIVE_INFINITY): number[] {
  const positions: number[] = [];
  for (let i = 0; i < set.length && positions.length < most; i++) {
    for (let word = set[i] as number; word !== 0 && positions.length < most; word &= word - 1) {
      positions.push(i * 32 + (31 - Math.clz32(word & -word)));
    }
  }
  return positions;
}

/** Whether `may` is asked somewhere in a test: then the answer depends on the current user, and not on the test alone. */
function asksMay(test: Expression): boolean {
  let asks = false;
  visitTests(test, (one) => {
    asks ||= one.kind === "may" || (one.kind === "exists" && asksMay(one.condition));
  });
  return asks;
}

/** Whether somewhere in a test is asked who somebody is. */
function asksOfPersons(test: Expression): boolean {
  let asks = false;
  visitTests(test, (one) => {
    asks ||= one.kind === "person" || one.kind === "line" || (one.kind === "exists" && asksOfPersons(one.condition));
  });
  return asks;
}

/** The fields of the record itself that a test reads: the first ones of its paths. */
function fieldsRead(test: Expression): Field[] {
  const fields = new Set<Field>();
  const take = (path: FieldPath) => {
    const [first] = path;
    for (const part of first.by ?? [first]) fields.add(part);
  };
  const read = (expression: Expression, kinds: readonly Operand["kind"][]): void => {
    visitTests(expression, (one) => {
      for (let operand of operandsOf(one)) {
        while (isMade(operand)) operand = operand.operand;
        // The link of an `exists` is a value of the record itself, seen from inside.
        const isOwn = kinds.includes(operand.kind) || (one.kind === "exists" && operand.kind === "outer");
        if (isOwn && "path" in operand) take(operand.path);
      }
      // Of an `exists` inside another one, the record around it is not this one.
      if (one.kind === "exists") read(one.condition, kinds.includes("field") ? ["outer", "around"] : ["outer"]);
      if (one.kind === "person" && one.here !== undefined) read(one.here, kinds);
    });
  };
  read(test, ["field"]);
  return [...fields];
}
