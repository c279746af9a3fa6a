import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Field, FieldPath } from "../schema/schema.js";
import { addDays } from "../schema/types/date.js";
import { addMinutes } from "../schema/types/timestamp.js";
import type { Expression, Operand } from "./expression.js";
import { matcher } from "./match.js";
import type { Row, Source } from "./source.js";
import { False, not, True, type Truth, Unknown } from "./truth.js";

/** What an evaluation may use besides the record. One per session. */
export interface Reading {
  readonly source: Source | undefined;
  /** Told of a stored value that does not fit its type, or is not there at all. */
  badData(field: Field, row: Row): void;
}

/** A condition made ready: closures that hold all that can be worked out before a record is seen. */
export type Test = (row: Row, reading: Reading) => Truth;

/** A canonical value; null for null; undefined for what cannot be read, which makes every condition unknown. */
export type Read = (row: Row, reading: Reading) => Scalar | null | undefined;

/**
 * Turns an expression into a closure over the record. Operands that only a session knows must have been replaced; one
 * that is left reads as unknown.
 */
export function compileTest(expression: Expression): Test {
  switch (expression.kind) {
    case "truth": {
      const { value } = expression;
      return () => value;
    }
    case "and":
      return all(expression.terms.map(compileTest));
    case "or":
      return any(expression.terms.map(compileTest));
    case "not": {
      const term = compileTest(expression.term);
      return (row, reading) => not(term(row, reading));
    }
    case "compare":
      return compileComparison(expression);
    case "in":
      return compileIn(expression);
    case "match": {
      const operand = compileRead(expression.operand);
      const pattern = compileRead(expression.pattern);
      const matches = matcher(expression.how);
      return (row, reading) => {
        const value = operand(row, reading);
        const sought = pattern(row, reading);
        if (value == null || sought == null) return Unknown;
        return matches(value as string, sought as string) ? True : False;
      };
    }
    case "is-null": {
      const operand = compileRead(expression.operand);
      return (row, reading) => {
        const value = operand(row, reading);
        return value === undefined ? Unknown : value === null ? True : False;
      };
    }
    case "belongs": {
      const whose = readPath(expression.path);
      const person = compileRead(expression.person);
      return (row, reading) => {
        const asking = person(row, reading);
        if (asking === null) return False;
        const value = whose(row, reading);
        if (value === null) return False;
        if (value === undefined || asking === undefined) return Unknown;
        return value === asking ? True : False;
      };
    }
    case "above":
      return compileAbove(expression);
    default:
      return expression satisfies never;
  }
}

function all(tests: readonly Test[]): Test {
  const [first, second] = tests;
  if (first !== undefined && second !== undefined && tests.length === 2) {
    return (row, reading) => {
      const truth = first(row, reading);
      if (truth === False) return False;
      const other = second(row, reading);
      return other < truth ? other : truth;
    };
  }
  return (row, reading) => {
    let least: Truth = True;
    for (let i = 0; i < tests.length; i++) {
      const truth = (tests[i] as Test)(row, reading);
      if (truth === False) return False;
      if (truth < least) least = truth;
    }
    return least;
  };
}

function any(tests: readonly Test[]): Test {
  return (row, reading) => {
    let greatest: Truth = False;
    for (let i = 0; i < tests.length; i++) {
      const truth = (tests[i] as Test)(row, reading);
      if (truth === True) return True;
      if (truth > greatest) greatest = truth;
    }
    return greatest;
  };
}

type Comparison = Extract<Expression, { kind: "compare" }>;

function compileComparison({ op, left, right }: Comparison): Test {
  if (op === "=" || op === "<>") {
    const onEqual = op === "=" ? True : False;
    const onOther = op === "=" ? False : True;
    if (right.kind === "constant" && right.value !== null) return equalsConstant(left, right.value, onEqual, onOther);
    if (left.kind === "constant" && left.value !== null) return equalsConstant(right, left.value, onEqual, onOther);
    const readLeft = compileRead(left);
    const readRight = compileRead(right);
    return (row, reading) => {
      const a = readLeft(row, reading);
      const b = readRight(row, reading);
      return a == null || b == null ? Unknown : a === b ? onEqual : onOther;
    };
  }
  const readLeft = compileRead(left);
  const readRight = compileRead(right);
  const order = left.type.compare ?? right.type.compare;
  const holds = orderings[op];
  return (row, reading) => {
    const a = readLeft(row, reading);
    const b = readRight(row, reading);
    if (a == null || b == null || order === undefined) return Unknown;
    return holds(order(a, b)) ? True : False;
  };
}

const orderings = {
  "<": (order: number) => order < 0,
  "<=": (order: number) => order <= 0,
  ">": (order: number) => order > 0,
  ">=": (order: number) => order >= 0,
} as const;

function equalsConstant(operand: Operand, constant: Scalar, onEqual: Truth, onOther: Truth): Test {
  if (operand.kind === "field" && operand.path.length === 1) {
    return fieldEqualsConstant(operand.path[0], constant, onEqual, onOther);
  }
  const read = compileRead(operand);
  return (row, reading) => {
    const value = read(row, reading);
    return value == null ? Unknown : value === constant ? onEqual : onOther;
  };
}

/** The most frequent test of all. A stored value that is the constant itself fits its type, and needs no other look. */
function fieldEqualsConstant(field: Field, constant: Scalar, onEqual: Truth, onOther: Truth): Test {
  const { name } = field;
  const { canonical } = field.type;
  const isInherited = name in Object.prototype;
  const isText = field.type.base === "text";
  return (row, reading) => {
    const raw = isInherited ? rawValue(row, name) : row[name];
    if (raw === constant) return onEqual;
    if (raw === null) return Unknown;
    // Every text is canonical.
    if (isText && typeof raw === "string") return onOther;
    const value = canonical(raw);
    if (value === constant) return onEqual;
    if (value !== undefined) return onOther;
    reading.badData(field, row);
    return Unknown;
  };
}

function compileIn({ operand, items }: Extract<Expression, { kind: "in" }>): Test {
  const read = compileRead(operand);
  const constants = new Set<Scalar>();
  let sawNull = false;
  const others: Read[] = [];
  for (const item of items) {
    if (item.kind !== "constant") others.push(compileRead(item));
    else if (item.value === null) sawNull = true;
    else constants.add(item.value);
  }
  const onMiss = sawNull ? Unknown : False;
  return (row, reading) => {
    const value = read(row, reading);
    if (value == null) return Unknown;
    if (constants.has(value)) return True;
    let truth: Truth = onMiss;
    for (const other of others) {
      const candidate = other(row, reading);
      if (candidate == null) truth = Unknown;
      else if (candidate === value) return True;
    }
    return truth;
  };
}

function compileAbove({ path, line, person }: Extract<Expression, { kind: "above" }>): Test {
  const whose = readPath(path);
  const who = compileRead(person);
  const manager = readField(line[0]);
  const people = line[0].table;
  return (row, reading) => {
    const asking = who(row, reading);
    if (asking === null) return False;
    let key = whose(row, reading);
    if (asking === undefined && key !== null) return Unknown;
    // Climbs until the line ends or comes round; in a circle of managers nobody is above themselves.
    const passed = new Set<Scalar>();
    while (key !== null && key !== undefined && !passed.has(key)) {
      passed.add(key);
      const below = find(people, key, reading);
      if (below === undefined) return False;
      key = manager(below, reading);
      if (key === asking) return passed.has(asking as Scalar) ? False : True;
    }
    return key === undefined ? Unknown : False;
  };
}

/** Reads an operand; used alone where values are shown, as in explanations. */
export function compileRead(operand: Operand): Read {
  switch (operand.kind) {
    case "constant": {
      const { value } = operand;
      return () => value;
    }
    case "field":
      return readPath(operand.path);
    case "shift": {
      const read = compileRead(operand.operand);
      const { amount, unit, type } = operand;
      return (row, reading) => {
        const value = read(row, reading);
        if (value == null) return value;
        if (type.base === "date") return addDays(value as string, amount);
        return addMinutes(value as string, amount * minutesOf[unit]);
      };
    }
    case "as-decimal": {
      const read = compileRead(operand.operand);
      return (row, reading) => {
        const value = read(row, reading);
        return value == null ? value : String(value);
      };
    }
    case "unreadable":
    case "me":
    case "request":
    case "today":
      return () => undefined;
    default:
      return operand satisfies never;
  }
}

const minutesOf = { day: 24 * 60, hour: 60, minute: 1 } as const;

function readPath(path: FieldPath): Read {
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

function readField(field: Field): Read {
  const { name } = field;
  const { canonical } = field.type;
  const isInherited = name in Object.prototype;
  return (row, reading) => {
    const raw = isInherited ? rawValue(row, name) : row[name];
    if (raw === null) return null;
    const value = canonical(raw);
    if (value === undefined) reading.badData(field, row);
    return value;
  };
}

function find(table: string, key: Scalar, reading: Reading): Row | undefined {
  if (reading.source === undefined) throw portierError("needs-source", { what: `a condition on "${table}"` });
  return reading.source.find(table, String(key));
}
