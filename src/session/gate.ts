import { and, type Expression, not, or, pushNots, readsOtherRecords, visitOperands } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { False, True } from "../conditions/truth.js";
import type { Rows } from "../rules/cells.js";
import type { Field } from "../schema/schema.js";
import { type Confirmation, type Decision, notPermitted, withConfirmations } from "./decision.js";
import type { Reach } from "./reach.js";
import { appliesToChange, type Step, type StepData } from "./step.js";

export type Decide = (row: Row, reading: Reading) => Decision;

/** Decides on a change from the record before to the record after; `later` reads the latter. */
export type DecideChange = (before: Row, after: Row, reading: Reading, later: Reading) => Decision;

/** Everything that decides about one field or act. Fields under the same rules share one. */
export interface Gate {
  /** Decides on the stored record (or, for create, the new one). */
  readonly decide: Decide;
  /** Whether a change may be tried, before its values are known. */
  readonly attempt: Decide;
  readonly change: DecideChange;
  /** What `decide` tests, as one condition without a "not" above a single test. Made anew by each call. */
  readonly condition: () => Expression;
  /** The same for `attempt`. */
  readonly attemptCondition: () => Expression;
  readonly reach: Reach;
  /** Whether any rule could ever permit it. */
  readonly hasPermits: boolean;
  /** Of a refusal: whether it stopped what another rule would have permitted. */
  readonly wouldPermit: (row: Row, reading: Reading) => boolean;
  /** The record's own fields that its steps read, as {@link bitsOf}; all bits where more has a say. */
  readonly reads: number;
  /** Whether some of its steps count in some rows of a grid only. */
  readonly isPlaced: boolean;
  /** The steps that it looks at, each with the rows of a grid in which it counts; all of them are made ready for it. */
  readonly placed: readonly PlacedStep[];
}

/** A step with the rows that it covers of one column; undefined: all of them. */
export interface PlacedStep {
  readonly step: Step;
  readonly rows: readonly Rows[] | undefined;
}

/** The same before it is made ready. */
export interface PlacedData {
  readonly data: StepData;
  readonly rows: readonly Rows[] | undefined;
}

/** Steps by what they do, in the order in which they are looked at. */
export interface Phases {
  readonly blocks: readonly Step[];
  readonly permits: readonly Step[];
  readonly confirms: readonly Step[];
}

/** A gate whose steps count for every record. `steps` are in the order of `cheapFirst`. */
export interface FlatGate extends Gate, Phases {
  readonly steps: readonly Step[];
  /** What is answered where nothing permits: with the note of a permit for them whose condition alone failed. */
  readonly denial: Decide;
}

export function flatGate(steps: readonly Step[]): FlatGate {
  const phases: Phases = {
    blocks: steps.filter((step) => step.phase === "block"),
    permits: steps.filter((step) => step.phase === "permit"),
    confirms: steps.filter((step) => step.phase === "confirm"),
  };
  const { blocks, permits } = phases;
  const denial = compileDenial(permits);
  const decide = told(compileDecide(phases), denial);
  const hasChoice = steps.some((step) => !isWithoutBecomes(step));
  return {
    ...phases,
    reads: bitsRead(steps),
    isPlaced: false,
    placed: steps.map((step) => ({ step, rows: undefined })),
    steps,
    denial,
    decide,
    attempt: hasChoice ? told(compileAttempt(phases), denial) : decide,
    change: (before, after, reading, later) => {
      const decision = judgeSteps(phases, appliesToChange, before, after, reading, later);
      return decision === notPermitted ? denial(before, reading) : decision;
    },
    condition: () => gateCondition(blocks.map(testOf), permits.map(testOf)),
    attemptCondition: () => gateCondition(blocks.filter(isWithoutBecomes).map(testOf), permits.map(testOf)),
    reach: flatReach(blocks, permits),
    hasPermits: permits.length > 0,
    wouldPermit: (row, reading) => permits.some((step) => step.testBefore(row, reading) === True),
  };
}

/** Fields as bits by their place; those of a table with more than 32 share some. */
export function bitsOf(fields: readonly Field[]): number {
  let bits = 0;
  for (let i = 0; i < fields.length; i++) bits |= 1 << ((fields[i] as Field).index & 31);
  return bits;
}

function bitsRead(steps: readonly Step[]): number {
  let bits = 0;
  for (const { before, after, hasBecomes, isCrossing } of steps) {
    if (hasBecomes || isCrossing || [before, after ?? before].some(readsOtherRecords)) return -1;
    visitOperands(before, (operand) => {
      if (operand.kind === "field") for (const field of operand.path) bits |= bitsReadOf(field);
    });
  }
  return bits;
}

/** A composite reference is read from its parts, at any depth; what a lookup shows is not the record's own. */
function bitsReadOf(field: Field): number {
  if (field.lookup !== undefined) return -1;
  return field.by === undefined ? bitsOf([field]) : field.by.reduce((bits, part) => bits | bitsReadOf(part), 0);
}

const plainDenial: Decide = () => notPermitted;

/** Most permits have no note: then a denial says no more than that. */
function compileDenial(permits: readonly Step[]): Decide {
  const noted = permits.flatMap((step) => {
    const { note } = step;
    if (note === undefined || isTrue(step.where)) return [];
    const decision: Decision = Object.freeze({ ...notPermitted, note });
    return [{ step, decision }];
  });
  if (noted.length === 0) return plainDenial;
  return (row, reading) => {
    try {
      return noted.find(({ step }) => step.testWho(row, reading) === True)?.decision ?? notPermitted;
    } catch {
      // It is denied anyway; what cannot be read says nothing more.
      return notPermitted;
    }
  };
}

function told(decide: Decide, denial: Decide): Decide {
  if (denial === plainDenial) return decide;
  return (row, reading) => {
    const decision = decide(row, reading);
    return decision === notPermitted ? denial(row, reading) : decision;
  };
}

/**
 * The closure behind a gate. Most gates have no block and one or two permits, and a decision is asked for every cell of
 * a table: these get closures of their own, without loops (about a third off a decision; see bench/).
 */
function compileDecide(phases: Phases): Decide {
  const { blocks, permits, confirms } = phases;
  const [first, second] = permits;
  if (first === undefined && blocks.length === 0) return () => notPermitted;
  if (blocks.length === 0 && confirms.length === 0 && first !== undefined) {
    const { testBefore, decision } = first;
    if (isTrue(first.before)) return () => decision;
    if (second === undefined) return (row, reading) => (testBefore(row, reading) === True ? decision : notPermitted);
    if (permits.length === 2) {
      const { testBefore: testSecond, decision: secondDecision } = second;
      return (row, reading) => {
        if (testBefore(row, reading) === True) return decision;
        return testSecond(row, reading) === True ? secondDecision : notPermitted;
      };
    }
  }
  const [block] = blocks;
  // A block whose test does not depend on the record is true, or unknown and as good as that.
  if (block !== undefined && block.before.kind === "truth") return () => block.decision;
  return (row, reading) => judgeSteps(phases, appliesToStored, row, row, reading, reading);
}

/**
 * Whether a change may be tried, before its values are known: what depends on them does not stop it yet, and makes it
 * tentative. A permit that does not depend on them goes before one that does.
 */
function compileAttempt({ blocks, permits, confirms }: Phases): Decide {
  const tentative = permits.filter(({ hasBecomes }) => hasBecomes);
  const decide = compileDecide({
    blocks: blocks.filter(isWithoutBecomes),
    permits: [
      ...permits.filter(({ hasBecomes }) => !hasBecomes),
      ...tentative.map((step): Step => ({ ...step, decision: step.tentativeDecision })),
    ],
    confirms: confirms.filter(isWithoutBecomes),
  });
  const open = blocks.filter((step) => !isWithoutBecomes(step));
  if (open.length === 0) return decide;
  return (row, reading) => {
    const decision = decide(row, reading);
    if (!decision.permitted || decision.tentative === true) return decision;
    return open.some((step) => appliesToStored(step, row, row, reading)) ? { ...decision, tentative: true } : decision;
  };
}

/** Whether a step applies to a change; asked of a stored record, that is both before and after. */
type Applies = (step: Step, before: Row, after: Row, reading: Reading, later: Reading) => boolean;

const appliesToStored = ({ phase, testBefore }: Step, row: Row, _after: Row, reading: Reading): boolean => {
  const truth = testBefore(row, reading);
  return phase === "permit" ? truth === True : truth !== False;
};

/** Blocks, then permits, then what is to be confirmed: here, and nowhere else. */
export function judgeSteps(
  { blocks, permits, confirms }: Phases,
  applies: Applies,
  before: Row,
  after: Row,
  reading: Reading,
  later: Reading,
): Decision {
  for (let i = 0; i < blocks.length; i++) {
    const step = blocks[i] as Step;
    if (applies(step, before, after, reading, later)) return step.decision;
  }
  for (let i = 0; i < permits.length; i++) {
    const step = permits[i] as Step;
    if (!applies(step, before, after, reading, later)) continue;
    if (confirms.length === 0) return step.decision;
    const asked = confirms.filter((one) => applies(one, before, after, reading, later));
    return withConfirmations(step.decision, asked.map(confirmationOf));
  }
  return notPermitted;
}

function confirmationOf({ rule, note }: Step): Confirmation {
  return { rule, ...(note === undefined ? {} : { note }) };
}

const testOf = ({ before }: Step): Expression => before;

/** Whether an attempt can rely on a block: it does not depend on new values. */
export function isWithoutBecomes(step: Step): boolean {
  return !step.hasBecomes && !step.isCrossing;
}

/** No block applies and some permit does, as one condition. */
export function gateCondition(blocks: readonly Expression[], permits: readonly Expression[]): Expression {
  return pushNots(and([...blocks.map((block) => not(block)), or(permits)]));
}

function flatReach(blocks: readonly Step[], permits: readonly Step[]): Reach {
  if (permits.length === 0) return "none";
  if (blocks.some((step) => isCertain(step) && !isTentative(step))) return "none";
  if (blocks.length === 0 && permits.some(isCertain)) return "all";
  return permits.every((step) => step.isOwners) ? "own" : "some";
}

/** Whether a step applies to every record and every change. */
export function isCertain(step: Step): boolean {
  return isTrue(step.before) && isTrue(step.after);
}

/** Whether the new values have a say in an edit: then, without them, it may be tried. */
function isTentative(step: Step): boolean {
  return step.isCrossing || (step.after !== undefined && step.hasBecomes);
}

function isTrue(expression: Expression | undefined): boolean {
  return expression === undefined || (expression.kind === "truth" && expression.value === True);
}
