import { addressBy } from "../schema/address.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Field, FieldPath } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { storedValue } from "../schema/types/stored-form.js";
import { decimalOf, isReference } from "./comparable.js";
import type { Operand } from "./expression.js";
import { shiftValue } from "./shift.js";
import type { Row, Source } from "./source.js";
import type { Truth } from "./truth.js";

/** The results of tests, by the test. */
interface DecidedTests {
  get(test: object): Truth | undefined;
  set(test: object, truth: Truth): void;
  /** Those of a test on other persons' records, by the person's key. `test`: a text that equal tests share. */
  ofPersons(test: string): Map<Scalar, Truth>;
}

/** What an evaluation may use besides the record. One per session. */
export interface Reading {
  readonly source: Source | undefined;
  /** Told of a stored value that does not fit its type, or is not there at all. */
  readonly badData: (field: Field, row: Row) => void;
  /** Told of what failed, where that hides a part of what is asked for and the rest is answered. */
  readonly fault: (error: unknown) => void;
  /** What the session knows and a plan that is shared leaves open, by its slot. Never null; undefined for no value. */
  readonly values?: readonly (Scalar | undefined)[] | undefined;
  /**
   * The results of tests that do not depend on the record: each is evaluated once. Absent where changes are checked,
   * as one change can alter the result for the next.
   */
  readonly decided?: DecidedTests | undefined;
  /** Inside `exists`: the record that the rule is about, and how things are read outside. */
  readonly outer?: { readonly row: Row; readonly reading: Reading };
  /** Inside `exists`: the record of which it is asked. */
  readonly around?: { readonly row: Row; readonly reading: Reading };
}

/** The same, telling nobody of bad data: for what is looked at besides, and for what is only proposed. */
export function quietly(reading: Reading): Reading {
  return { ...reading, decided: undefined, badData: () => {}, fault: () => {} };
}

/**
 * A canonical value; null for null; undefined for what cannot be read, which makes every condition unknown (`Bad`,
 * as against `Unknown` for a null).
 */
export type Read = (row: Row, reading: Reading) => Scalar | null | undefined;

/** A condition made ready: closures that hold all that can be worked out before a record is seen. */
export type Test = (row: Row, reading: Reading) => Truth;

/** Reads an operand; used alone where values are shown, as in explanations. */
export function compileRead(operand: Operand): Read {
  switch (operand.kind) {
    case "constant": {
      const { value } = operand;
      return () => value;
    }
    case "field":
      return readPath(operand.path);
    case "outer": {
      const read = readPath(operand.path);
      return (_row, { outer }) => (outer === undefined ? undefined : read(outer.row, outer.reading));
    }
    case "around": {
      const read = readPath(operand.path);
      return (_row, { around }) => (around === undefined ? undefined : read(around.row, around.reading));
    }
    case "shift": {
      const read = compileRead(operand.operand);
      return (row, reading) => {
        const value = read(row, reading);
        return value == null ? value : shiftValue(value as string, operand);
      };
    }
    case "as-decimal": {
      const read = compileRead(operand.operand);
      return (row, reading) => {
        const value = read(row, reading);
        return value == null ? value : decimalOf(value, operand.type);
      };
    }
    case "as-address": {
      const read = compileRead(operand.operand);
      return (row, reading) => {
        const value = read(row, reading);
        return value == null ? value : String(value);
      };
    }
    case "me":
    case "held":
    case "request":
    case "today": {
      const { slot } = operand;
      return slot === undefined ? () => undefined : (_row, { values }) => values?.[slot];
    }
    case "unreadable":
      return () => undefined;
    default:
      return operand satisfies never;
  }
}

export function readPath(path: FieldPath): Read {
  const [first, ...rest] = path;
  let read = readField(first);
  let from = first;
  for (const field of rest) {
    const key = read;
    const next = readField(field);
    const table = from.type.target ?? "";
    read = (row, reading) => {
      const value = key(row, reading);
      if (value == null) return value;
      const found = find(table, value, reading);
      return found === undefined ? null : next(found, reading);
    };
    from = field;
  }
  return read;
}

/** The raw value of a field. Inherited properties are no values, so names such as `constructor` need the check. */
export function rawValue(row: Row, name: string): unknown {
  const value = row[name];
  return value !== undefined && name in Object.prototype && !Object.hasOwn(row, name) ? undefined : value;
}

/** A field's value as an application would show it: stored, or for a reference made of other fields put together. */
export function fieldValue(row: Row, field: Field): unknown {
  return field.by === undefined ? rawValue(row, field.name) : addressBy(field.by, (part) => fieldValue(row, part));
}

export function readField(field: Field): Read {
  const { name, by } = field;
  if (by !== undefined) {
    return (row, reading) => {
      const value = addressBy(by, (part) => fieldValue(row, part));
      if (value === undefined) reading.badData(field, row);
      return value;
    };
  }
  const { type } = field;
  const isInherited = name in Object.prototype;
  return (row, reading) => {
    const raw = isInherited ? rawValue(row, name) : row[name];
    if (raw === null) return null;
    const value = storedValue(type, raw);
    if (value === undefined) reading.badData(field, row);
    return value;
  };
}

export function find(table: string, key: Scalar, reading: Reading): Row | undefined {
  return sourceOf(table, reading).find(table, String(key));
}

/** The records of which a path leads to a value: no others need to be looked at, but these may be more than those. */
export function holding(table: string, path: FieldPath, value: Scalar, reading: Reading): Iterable<Row> {
  const source = sourceOf(table, reading);
  const key = String(value);
  if (!isReference(path)) {
    const names = path.map(({ name }) => name);
    return source.holding?.(table, names, key) ?? everything(table, reading);
  }
  if (source.referring !== undefined) return source.referring(table, path[0].name, key);
  throw portierError("needs-source", { what: `a condition on the records of "${table}"`, method: "referring" });
}

export function everything(table: string, reading: Reading): Iterable<Row> {
  const source = sourceOf(table, reading);
  if (source.all !== undefined) return source.all(table);
  throw portierError("needs-source", { what: `a condition on all records of "${table}"`, method: "all" });
}

function sourceOf(table: string, reading: Reading): Source {
  if (reading.source !== undefined) return reading.source;
  throw portierError("needs-source", { what: `a condition on "${table}"` });
}

/** The elements of a list, or a single value as a list of one; null and undefined as {@link Read} has them. */
export function compileElements(
  operand: Operand,
): (row: Row, reading: Reading) => ReadonlySet<Scalar> | null | undefined {
  const isList = operand.type.base === "list";
  const elementsOf = (value: Scalar) => new Set(isList ? listElements(value) : [value]);
  if (operand.kind === "constant") {
    const known = operand.value === null ? null : elementsOf(operand.value);
    return () => known;
  }
  const read = compileRead(operand);
  // What a session knows is the same for one record after the other.
  let last: Scalar | undefined;
  let elements: ReadonlySet<Scalar> = new Set();
  return (row, reading) => {
    const value = read(row, reading);
    if (value == null) return value;
    if (value !== last) {
      elements = elementsOf(value);
      last = value;
    }
    return elements;
  };
}
