import type { Scalar } from "../schema/scalar.js";
import type { Expression, LineTest, PersonTest } from "./expression.js";
import { compileElements, compileRead, find, holding, type Reading, readField, type Test } from "./read.js";
import { keyOf } from "./simplify.js";
import type { Row } from "./source.js";
import { Bad, False, True, type Truth, Unknown } from "./truth.js";

/** Whether a person is a member, by their key: worked out once per session. */
export function compilePerson(
  { key, people, condition, here, quantifier }: PersonTest,
  compile: (expression: Expression) => Test,
): Test {
  const test = compile(condition);
  const isHere = here === undefined ? undefined : compile(here);
  const isSome = quantifier === "some";
  // Rules that ask the same of a person share what was found.
  const id = `${people} ${keyOf(condition)}`;
  /** Undefined where there is no such person. */
  const ofPerson = (one: Scalar, reading: Reading): Truth | undefined => {
    const known = reading.decided?.ofPersons(id);
    const truth = known?.get(one);
    if (truth !== undefined) return truth;
    const person = find(people, one, reading);
    if (person === undefined) return undefined;
    const found = test(person, asOf(reading));
    known?.set(one, found);
    return found;
  };
  const withHere = (truth: Truth, row: Row, reading: Reading): Truth => {
    if (isHere === undefined) return truth;
    const other = isHere(row, reading);
    return (isSome ? Math.min(truth, other) : Math.max(truth, other)) as Truth;
  };
  if (key.type.base !== "list") {
    const read = compileRead(key);
    return (row, reading) => {
      const one = read(row, reading);
      const truth = one === undefined ? Bad : one === null ? Unknown : (ofPerson(one, reading) ?? Unknown);
      return withHere(truth, row, reading);
    };
  }
  const elements = compileElements(key);
  return (row, reading) => {
    const persons = elements(row, reading);
    if (persons === null) return Unknown;
    if (persons === undefined) return Bad;
    let truth: Truth = isSome ? False : True;
    for (const one of persons) {
      const found = ofPerson(one, reading);
      if (found !== undefined) truth = (isSome ? Math.max(truth, found) : Math.min(truth, found)) as Truth;
    }
    return truth;
  };
}

/** A condition on another person's record: nothing of what stands around it is at hand there. */
function asOf({ outer, around, ...reading }: Reading): Reading {
  return reading;
}

/** Goes along the manager line; in a circle of managers, once round. */
export function compileLine(
  { direction, levels = Number.POSITIVE_INFINITY, line, key, condition, quantifier }: LineTest,
  compile: (expression: Expression) => Test,
): Test {
  const test = compile(condition);
  const [managerOf, keyOf] = [readField(line), readField(key)];
  const people = line.table;
  const isSome = quantifier === "some";
  /** The persons one step on, and whether somebody may be among them of whom that cannot be told. */
  const next = (person: Row, reading: Reading): { readonly persons: readonly Row[]; readonly isOpen: boolean } => {
    if (direction === "above") {
      const manager = managerOf(person, reading);
      const found = manager == null ? undefined : find(people, manager, reading);
      return { persons: found === undefined ? [] : [found], isOpen: manager === undefined };
    }
    const own = keyOf(person, reading);
    if (own == null) return { persons: [], isOpen: true };
    const managed = [...holding(people, [line], own, reading)].map((row) => [row, managerOf(row, reading)] as const);
    return {
      persons: managed.filter(([, manager]) => manager === own).map(([row]) => row),
      isOpen: managed.some(([, manager]) => manager === undefined),
    };
  };
  return (row, reading) => {
    let truth: Truth = isSome ? False : True;
    const add = (one: Truth) => {
      truth = (isSome ? Math.max(truth, one) : Math.min(truth, one)) as Truth;
    };
    const passed = new Set([keyOf(row, reading)]);
    const other = asOf(reading);
    let step: readonly Row[] = [row];
    for (let level = 0; level < levels && step.length > 0; level++) {
      const following: Row[] = [];
      for (const person of step) {
        const { persons, isOpen } = next(person, other);
        if (isOpen) add(Bad);
        for (const one of persons) {
          const found = keyOf(one, other);
          if (passed.has(found)) continue;
          passed.add(found);
          following.push(one);
          add(test(one, other));
        }
      }
      step = following;
    }
    return truth;
  };
}
