import type { Reading, Test } from "../conditions/evaluate.js";
import { compileTest } from "../conditions/evaluate.js";
import { always, and, type Expression, never, not, or, readsOtherRecords } from "../conditions/expression.js";
import type { Row } from "../conditions/source.js";
import { specialize } from "../conditions/specialize.js";
import { False, True } from "../conditions/truth.js";
import { type ActionName, actions } from "../rules/actions.js";
import type { Rule, Who } from "../rules/rule.js";
import type { Subject } from "./subject.js";

/** Why something is or is not permitted. */
export type Reason = "permitted" | "denied" | "reserved" | "not-permitted" | "not-found" | "fault";

/** An answer. `rule` and `reason` are for developers and logs; a person may be shown `note`. */
export interface Decision {
  readonly permitted: boolean;
  readonly reason: Reason;
  /** The address of the rule that decided; for a permit one that is enough. Absent where no rule did. */
  readonly rule?: string;
  /** What the deciding rule protects and why, in its author's words. */
  readonly note?: string;
  /** An edit asked about without values may still be refused when its values are known. */
  readonly tentative?: true;
}

/** One rule as it stands for one subject: conditions on the record alone. */
export interface Step {
  readonly rule: Rule;
  /** On the stored record; for create, on the new one. */
  readonly before: Expression;
  /** On the record after an edit; undefined for other actions. */
  readonly after: Expression | undefined;
  readonly testBefore: Test;
  readonly testAfter: Test;
  readonly decision: Decision;
  readonly tentativeDecision: Decision;
}

/** Everything that decides about one field or act: blocks first, then permits. Fields under the same rules share one. */
export interface Gate {
  readonly blocks: readonly Step[];
  readonly permits: readonly Step[];
  /** Decides on the stored record (or, for create, the new one). */
  readonly decide: Decide;
}

export type Decide = (row: Row, reading: Reading) => Decision;

export const notPermitted: Decision = Object.freeze({ permitted: false, reason: "not-permitted" });
export const notFound: Decision = Object.freeze({ permitted: false, reason: "not-found" });

/**
 * The steps of some rules for a subject. Rules that cannot apply are gone; what unknown means to an effect is settled
 * here: a step applies when its test is true (permit), or true or unknown (block).
 */
export function makeSteps(rules: readonly Rule[], action: ActionName, subject: Subject): Step[] {
  if (!subject.meets) return [];
  const steps: Step[] = [];
  for (const rule of rules) {
    const { effect } = rule;
    const finish = (expression: Expression) => settle(specialize(expression, subject.known), effect.phase === "permit");
    const to = and([anyOf(rule.to, subject), not(anyOf(rule.except, subject))]);
    const isChange = actions[action].judges === "change";
    const isNew = actions[action].judges === "new";
    const where = isNew && rule.becomes !== undefined ? and([rule.where, rule.becomes]) : rule.where;
    const before = finish(effect.test(to, where));
    if (before.kind === "truth" && before.value === False) continue;
    const after = isChange ? finish(rule.becomes ?? (effect.phase === "permit" ? rule.where : always)) : undefined;
    // A permit stays although no change could meet it: asked without values, who and where decide.
    if (effect.phase === "block" && after?.kind === "truth" && after.value === False) continue;
    const decision: Decision = Object.freeze({
      permitted: effect.phase === "permit",
      reason: effect.reason,
      rule: rule.address,
      ...(rule.note === undefined ? {} : { note: rule.note }),
    });
    steps.push({
      rule,
      before,
      after,
      testBefore: compileTest(before),
      testAfter: after === undefined ? alwaysTrue : compileTest(after),
      decision,
      tentativeDecision: Object.freeze({ ...decision, tentative: true }),
    });
  }
  return steps.sort(cheapFirst);
}

const alwaysTrue: Test = () => True;
const order = { deny: 0, reserve: 1, permit: 2 } as const;

/**
 * Denies before reserves, as reasons go; then what is certain, and what reads other records last. Otherwise the order of
 * addresses stays.
 */
function cheapFirst(a: Step, b: Step): number {
  return order[a.rule.effect.name] - order[b.rule.effect.name] || cost(a.before) - cost(b.before);
}

function cost(expression: Expression): number {
  if (expression.kind === "truth") return 0;
  return readsOtherRecords(expression) ? 2 : 1;
}

/** Any of the entries, as an expression; roles and the like are decided here. */
function anyOf(entries: readonly Who[], subject: Subject): Expression {
  return or(entries.map((who) => entryMet(who, subject)));
}

/** Whether a subject meets an entry: decided, or what is left to ask of the record. */
export function entryMet(who: Who, subject: Subject): Expression {
  switch (who.kind) {
    case "anyone":
      return always;
    case "signed-in":
      return subject.signedIn ? always : never;
    case "role":
      return subject.roles.has(who.role) ? always : never;
    case "related":
      return who.met;
    default:
      return who satisfies never;
  }
}

/**
 * Replaces unknown, where only and/or stand above it, by what it comes to: for a permit it is as good as false, for a
 * block as good as true. Below a "not" it stays.
 */
function settle(expression: Expression, isPermit: boolean): Expression {
  if (expression.kind === "and") return and(expression.terms.map((term) => settle(term, isPermit)));
  if (expression.kind === "or") return or(expression.terms.map((term) => settle(term, isPermit)));
  if (expression.kind !== "truth" || expression.value === True || expression.value === False) return expression;
  return isPermit ? never : always;
}

export function gateOf(steps: readonly Step[]): Gate {
  const blocks = steps.filter((step) => step.rule.effect.phase === "block");
  const permits = steps.filter((step) => step.rule.effect.phase === "permit");
  return { blocks, permits, decide: compileDecide(blocks, permits) };
}

/**
 * The closure behind a gate. Most gates have no block and one or two permits, and a decision is asked for every cell of
 * a table: these get closures of their own, without loops (about a third off a decision; see bench/).
 */
function compileDecide(blocks: readonly Step[], permits: readonly Step[]): Decide {
  const [first, second] = permits;
  if (blocks.length === 0 && first === undefined) return () => notPermitted;
  if (blocks.length === 0 && first !== undefined) {
    const { testBefore, decision } = first;
    if (first.before.kind === "truth") return () => decision;
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
  if (block !== undefined && block.before.kind === "truth") return () => block.decision;
  return (row, reading) => {
    for (let i = 0; i < blocks.length; i++) {
      const step = blocks[i] as Step;
      if (step.testBefore(row, reading) !== False) return step.decision;
    }
    for (let i = 0; i < permits.length; i++) {
      const step = permits[i] as Step;
      if (step.testBefore(row, reading) === True) return step.decision;
    }
    return notPermitted;
  };
}

/** Decides on a change: each rule must hold before and after by itself. */
export function judgeChange(gate: Gate, before: Row, after: Row, reading: Reading, later: Reading): Decision {
  for (const step of gate.blocks) {
    if (step.testBefore(before, reading) !== False && step.testAfter(after, later) !== False) return step.decision;
  }
  for (const step of gate.permits) {
    if (step.testBefore(before, reading) === True && step.testAfter(after, later) === True) return step.decision;
  }
  return notPermitted;
}

/** Makes the decision whether an edit may be tried, before its values are known. */
export function compileAttempt(gate: Gate): Decide {
  const hasChoice = [...gate.blocks, ...gate.permits].some((step) => step.rule.becomes !== undefined);
  return hasChoice ? (row, reading) => judgeAttempt(gate, row, reading) : gate.decide;
}

function judgeAttempt(gate: Gate, row: Row, reading: Reading): Decision {
  let tentative = false;
  for (const step of gate.blocks) {
    if (step.testBefore(row, reading) === False) continue;
    if (step.rule.becomes === undefined) return step.decision;
    tentative = true;
  }
  let found: Step | undefined;
  for (const step of gate.permits) {
    if (step.testBefore(row, reading) !== True) continue;
    if (step.rule.becomes === undefined) return tentative ? step.tentativeDecision : step.decision;
    found ??= step;
  }
  return found?.tentativeDecision ?? notPermitted;
}
