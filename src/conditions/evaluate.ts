import type { Scalar } from "../schema/scalar.js";
import { lastOf } from "../schema/schema.js";
import { compileEquality } from "./equality.js";
import { compileLine, compilePerson } from "./evaluate-person.js";
import { type Expression, isOfAnyRecord, pushNots } from "./expression.js";
import { matcher } from "./match.js";
import {
  compileElements,
  compileRead,
  everything,
  find,
  holding,
  type Read,
  type Reading,
  readField,
  readPath,
  type Test,
} from "./read.js";
import { Bad, False, not, True, type Truth, Unknown } from "./truth.js";

/** Answers `may`: whether the current user may do the action with a record of the table. */
export type Judge = (action: string, table: string) => Test;

/**
 * Turns an expression into a closure over the record. Operands that only a session knows must have been replaced; one
 * that is left reads as unknown, and so does `may` without a `judge`.
 */
export function compileTest(expression: Expression, judge: Judge = nobodyMay): Test {
  switch (expression.kind) {
    case "truth": {
      const { value } = expression;
      return () => value;
    }
    case "and":
      return all(expression.terms.map((term) => compileTest(term, judge)));
    case "or":
      return any(expression.terms.map((term) => compileTest(term, judge)));
    case "not": {
      const term = compileTest(expression.term, judge);
      return (row, reading) => not(term(row, reading));
    }
    case "compare":
      return compileEquality(expression, (truth) => truth) ?? compileComparison(expression);
    case "in":
      return compileIn(expression);
    case "in-list":
      return compileInList(expression);
    case "match":
      return compileMatch(expression);
    case "is-null": {
      const operand = compileRead(expression.operand);
      return (row, reading) => {
        const value = operand(row, reading);
        return value === undefined ? Bad : value === null ? True : False;
      };
    }
    case "belongs":
      return compileEquality(expression, (truth) => truth) ?? compileBelongs(expression);
    case "above":
      return compileAbove(expression);
    case "exists":
    case "may": {
      const test = expression.kind === "exists" ? compileExists(expression, judge) : compileMay(expression, judge);
      return isOfAnyRecord(expression) ? oncePerSession(test) : test;
    }
    case "open":
      return () => Unknown;
    case "person":
      return compilePerson(expression, (one) => compileTest(one, judge));
    case "line":
      return compileLine(expression, (one) => compileTest(one, judge));
    default:
      return expression satisfies never;
  }
}

const nobodyMay: Judge = () => () => Unknown;

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
    const readLeft = compileRead(left);
    const readRight = compileRead(right);
    return (row, reading) => {
      const a = readLeft(row, reading);
      const b = readRight(row, reading);
      if (a === null || b === null) return Unknown;
      if (a === undefined || b === undefined) return Bad;
      return a === b ? onEqual : onOther;
    };
  }
  const readLeft = compileRead(left);
  const readRight = compileRead(right);
  const order = left.type.compare ?? right.type.compare;
  const holds = orderings[op];
  return (row, reading) => {
    const a = readLeft(row, reading);
    const b = readRight(row, reading);
    if (a === null || b === null || order === undefined) return Unknown;
    if (a === undefined || b === undefined) return Bad;
    return holds(order(a, b)) ? True : False;
  };
}

const orderings = {
  "<": (order: number) => order < 0,
  "<=": (order: number) => order <= 0,
  ">": (order: number) => order > 0,
  ">=": (order: number) => order >= 0,
} as const;

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
  // Compared with a null, what cannot be read is unknown through the null, as in any comparison.
  const onBad = constants.size > 0 ? Bad : onMiss;
  return (row, reading) => {
    const value = read(row, reading);
    if (value === null) return Unknown;
    if (value !== undefined && constants.has(value)) return True;
    let truth: Truth = value === undefined ? onBad : onMiss;
    for (const other of others) {
      const candidate = other(row, reading);
      if (candidate === null) truth = Math.max(truth, Unknown) as Truth;
      else if (candidate === undefined || value === undefined) truth = Bad;
      else if (candidate === value) return True;
    }
    return truth;
  };
}

function compileMatch({ how, operand, pattern }: Extract<Expression, { kind: "match" }>): Test {
  const read = compileRead(operand);
  const readPattern = compileRead(pattern);
  // A pattern that is written out is made ready once.
  const known =
    pattern.kind === "constant" && pattern.value !== null ? matcher(how, pattern.value as string) : undefined;
  return (row, reading) => {
    const value = read(row, reading);
    const sought = readPattern(row, reading);
    if (value === null || sought === null) return Unknown;
    if (value === undefined || sought === undefined) return Bad;
    return (known ?? matcher(how, sought as string))(value as string) ? True : False;
  };
}

function compileInList({ operand, list }: Extract<Expression, { kind: "in-list" }>): Test {
  const read = compileRead(operand);
  const elements = compileElements(list);
  return (row, reading) => {
    const value = read(row, reading);
    const among = elements(row, reading);
    if (value === null || among === null) return Unknown;
    if (value === undefined || among === undefined) return Bad;
    return among.has(value) ? True : False;
  };
}

/** Leads to nobody: false. So does a subject who is nobody, or who holds nothing. */
function compileBelongs({ path, subject }: Extract<Expression, { kind: "belongs" }>): Test {
  const last = lastOf(path);
  const whose = compileElements({ kind: "field", type: last.type, path });
  const subjects = compileElements(subject);
  const holdsRole = subject.type.base === "list";
  if (last.type.base !== "list" && !holdsRole) {
    const read = readPath(path);
    const person = compileRead(subject);
    return (row, reading) => {
      const asking = person(row, reading);
      if (asking === null) return False;
      const value = read(row, reading);
      if (value === null) return False;
      return value === undefined || asking === undefined ? Bad : value === asking ? True : False;
    };
  }
  if (last.type.base !== "list") {
    const read = readPath(path);
    return (row, reading) => {
      const asking = subjects(row, reading);
      if (asking === null || asking?.size === 0) return False;
      const value = read(row, reading);
      if (value === null) return False;
      if (value === undefined || asking === undefined) return Bad;
      return asking.has(String(value)) ? True : False;
    };
  }
  return (row, reading) => {
    const asking = subjects(row, reading);
    if (asking === null || asking?.size === 0) return False;
    const values = whose(row, reading);
    if (values === null || values?.size === 0) return False;
    if (values === undefined || asking === undefined) return Bad;
    // Records on which a role is held are named by their addresses, which are texts.
    for (const value of values) {
      if (asking.has(holdsRole ? String(value) : value)) return True;
    }
    return False;
  };
}

function compileAbove({ path, line, subject }: Extract<Expression, { kind: "above" }>): Test {
  const whose = compileElements({ kind: "field", type: lastOf(path).type, path });
  const who = compileRead(subject);
  const manager = readField(line);
  const people = line.table;
  const isAbove = (person: Scalar, asking: Scalar | undefined, reading: Reading): Truth => {
    // Climbs until the line ends or comes round; in a circle of managers nobody is above themselves.
    const passed = new Set<Scalar>();
    let key: Scalar | null | undefined = person;
    while (key !== null && key !== undefined && !passed.has(key)) {
      passed.add(key);
      const below = find(people, key, reading);
      if (below === undefined) return False;
      key = manager(below, reading);
      if (key === asking && key !== undefined) return passed.has(key) ? False : True;
    }
    return key === undefined ? Bad : False;
  };
  return (row, reading) => {
    const asking = who(row, reading);
    if (asking === null) return False;
    const persons = whose(row, reading);
    if (persons === null) return False;
    if (persons === undefined || asking === undefined) return Bad;
    let greatest: Truth = False;
    for (const person of persons) greatest = Math.max(greatest, isAbove(person, asking, reading)) as Truth;
    return greatest;
  };
}

/** True or false as in SQL; {@link Bad} where no record decides it and bad data leaves one undecided. */
function compileExists(expression: Extract<Expression, { kind: "exists" }>, judge: Judge): Test {
  const { table, condition, link } = expression;
  const test = compileTest(pushNots(condition), judge);
  const value = link === undefined ? undefined : compileRead(link.value);
  return (row, reading) => {
    const around = { row, reading };
    const { source, badData, fault, decided, values, outer = around } = reading;
    const inside: Reading = { source, badData, fault, decided, values, outer, around };
    const sought = value?.(row, inside);
    if (link !== undefined && sought === null) return False;
    const isSought = link !== undefined && sought != null;
    const rows = isSought ? holding(table, link.path, sought, reading) : everything(table, reading);
    let greatest: Truth = False;
    for (const candidate of rows) {
      const truth = test(candidate, inside);
      if (truth === True) return True;
      if (truth === Bad) greatest = Bad;
    }
    return greatest;
  };
}

/** Evaluates a test that is the same for every record once per session. */
function oncePerSession(test: Test): Test {
  return (row, reading) => {
    const known = reading.decided?.get(test);
    if (known !== undefined) return known;
    const truth = test(row, reading);
    reading.decided?.set(test, truth);
    return truth;
  };
}

function compileMay({ action, key: asked, target }: Extract<Expression, { kind: "may" }>, judge: Judge): Test {
  const read = compileRead(asked);
  let decide: Test | undefined;
  return (row, reading) => {
    const key = read(row, reading);
    if (key === null) return Unknown;
    if (key === undefined) return Bad;
    const found = find(target, key, reading);
    if (found === undefined) return Unknown;
    // Made when it is first asked: a plan may hold itself in the middle of being made.
    decide ??= judge(action, target);
    return decide(found, reading.outer?.reading ?? reading);
  };
}
