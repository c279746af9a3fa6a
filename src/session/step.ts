import { compileTest, type Judge } from "../conditions/evaluate.js";
import { always, and, type Expression, never, not, or, readsOtherRecords } from "../conditions/expression.js";
import type { Reading, Test } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { type Decided, specialize } from "../conditions/specialize.js";
import { False, True, Unknown } from "../conditions/truth.js";
import type { Action } from "../rules/actions.js";
import { type Effect, type EffectName, effectNames, effects, ruleTest } from "../rules/effects.js";
import type { Extent, Rule, Who } from "../rules/rule.js";
import type { FieldPath, Table } from "../schema/schema.js";
import type { Decision } from "./decision.js";
import type { Subject } from "./subject.js";

/** One rule as it stands for one subject: conditions on the record alone. Plain data, but for what is compiled from it. */
export interface StepData {
  /** The rule's address. */
  readonly rule: string;
  readonly effect: EffectName;
  readonly note: string | undefined;
  readonly extent: Extent;
  /** Who the rule stops, permits or asks; true where that does not depend on the record. */
  readonly who: Expression;
  /** On the stored record; for create, on the new one. */
  readonly where: Expression;
  /** On the record after a change; undefined for actions that change nothing. */
  readonly after: Expression | undefined;
  /** Whether the rule itself says what a change must lead to. */
  readonly hasBecomes: boolean;
  /** Applies to a change if `where` holds before or after it. */
  readonly alsoAfter: boolean;
  /** Holds rows as rows: applies to a change of the position that crosses the border of its rows. */
  readonly isCrossing: boolean;
  /** Whether ownership is one of its demands. */
  readonly isOwners: boolean;
}

export interface Step extends StepData {
  readonly phase: Effect["phase"];
  /** `who` and `where` together. */
  readonly before: Expression;
  readonly testWho: Test;
  readonly testWhere: Test;
  readonly testBefore: Test;
  readonly testAfter: Test;
  readonly decision: Decision;
  readonly tentativeDecision: Decision;
  /** What its conditions ask when they ask `may`. */
  readonly judge: Judge;
}

/** How a rule is turned into a step: what its conditions are tested on, and what it covers. */
export interface StepOptions {
  readonly judges: Action["judges"];
  readonly extent: Extent;
  readonly isCrossing?: boolean;
}

/** What a rule's step tests: what rules share that differ in nothing but their cells. */
export type StepTests = Pick<StepData, "who" | "where" | "after" | "isOwners">;

/**
 * The tests of a rule for a subject, or undefined where the rule cannot apply. What unknown means to an effect is decided
 * here: a step applies when its test is true (permit), or true or unknown (all others).
 */
export function stepTests(rule: Rule, subject: Subject, judges: Action["judges"]): StepTests | undefined {
  const inForce = subject.inForce(rule);
  if (!subject.meets || isFalse(inForce)) return undefined;
  const { effect } = rule;
  const isPermit = effect.phase === "permit";
  const finish = (expression: Expression) =>
    decideUnknown(specialize(expression, subject.known, undefined, subject.membership), isPermit);
  const to = and([anyOf(rule.to, subject), not(anyOf(rule.except, subject))]);
  const who = finish(and([effect.meets(to), inForce]));
  const where = finish(judges === "new" && rule.becomes !== undefined ? and([rule.where, rule.becomes]) : rule.where);
  const before = decideUnknown(ruleTest(who, where), isPermit);
  if (isFalse(before)) return undefined;
  const after = judges === "change" ? finish(rule.becomes ?? (isPermit ? rule.where : always)) : undefined;
  // A permit stays although no change could meet it: asked without values, who and where decide.
  if (!isPermit && after !== undefined && isFalse(after)) return undefined;
  return { who, where, after, isOwners: demandsOwnership(before, rule.table) };
}

export function stepData(rule: Rule, { who, where, after, isOwners }: StepTests, options: StepOptions): StepData {
  return {
    rule: rule.address,
    effect: rule.effect.name,
    note: rule.note,
    extent: options.extent,
    who,
    where,
    after,
    hasBecomes: rule.becomes !== undefined,
    alsoAfter: rule.alsoAfter && options.judges === "change",
    isCrossing: options.isCrossing === true,
    isOwners,
  };
}

/** A step once the tests in it are decided that are the same for every record; undefined where it then cannot apply. */
export function decideStep(step: StepData, table: Table, decided: Decided): StepData | undefined {
  const isPermit = effects[step.effect].phase === "permit";
  const finish = (expression: Expression) =>
    decideUnknown(
      specialize(expression, (open) => open, decided),
      isPermit,
    );
  const [who, where] = [finish(step.who), finish(step.where)];
  const after = step.after && finish(step.after);
  const before = decideUnknown(ruleTest(who, where), isPermit);
  if (isFalse(before) || (!isPermit && after !== undefined && isFalse(after))) return undefined;
  return { ...step, who, where, after, isOwners: demandsOwnership(before, table) };
}

/** Makes a step of a plan ready to be asked; the same each time. */
export type ReadyStep = (data: StepData) => Step;

/** Makes a step's data ready to be asked. */
export function compileStep(data: StepData, judge: Judge): Step {
  const effect = effects[data.effect];
  const before = decideUnknown(ruleTest(data.who, data.where), effect.phase === "permit");
  const decision: Decision = Object.freeze({
    permitted: effect.phase === "permit",
    reason: effect.reason ?? "permitted",
    rule: data.rule,
    ...(data.note === undefined ? {} : { note: data.note }),
  });
  return {
    ...data,
    phase: effect.phase,
    before,
    testWho: compileTest(data.who, judge),
    testWhere: compileTest(data.where, judge),
    testBefore: compileTest(before, judge),
    testAfter: data.after === undefined ? alwaysTrue : compileTest(data.after, judge),
    decision,
    tentativeDecision: Object.freeze({ ...decision, tentative: true }),
    judge,
  };
}

const alwaysTrue: Test = () => True;

/**
 * Denies before reserves, as reasons go; then what is certain, and what reads other records last. Otherwise the order of
 * addresses stays.
 */
export function cheapFirst(a: Step, b: Step): number {
  return effectNames.indexOf(a.effect) - effectNames.indexOf(b.effect) || cost(a.before) - cost(b.before);
}

function cost(expression: Expression): number {
  if (expression.kind === "truth") return 0;
  return readsOtherRecords(expression) ? 2 : 1;
}

/** Any of the entries, as an expression; roles and the like are decided here. */
function anyOf(entries: readonly Who[], subject: Subject): Expression {
  return or(entries.map((who) => entryApplies(who, subject)));
}

/** Whether the current user meets an entry: decided, or what is left to ask of the record. */
export function entryApplies(who: Who, subject: Subject): Expression {
  switch (who.kind) {
    case "anyone":
      return always;
    case "signed-in":
      return subject.signedIn;
    case "member":
      return subject.membership(who.name);
    case "related":
      return who.met;
    default:
      return who satisfies never;
  }
}

/**
 * Replaces unknown, where only and/or stand above it, by what it comes to: for a permit it is as good as false, for a
 * block as good as true. Below a "not" it stays, and so does what only bad data leaves open: `may` must tell it.
 */
function decideUnknown(expression: Expression, isPermit: boolean): Expression {
  if (expression.kind === "and") return and(expression.terms.map((term) => decideUnknown(term, isPermit)));
  if (expression.kind === "or") return or(expression.terms.map((term) => decideUnknown(term, isPermit)));
  if (expression.kind !== "truth" || expression.value !== Unknown) return expression;
  return isPermit ? never : always;
}

function isFalse(expression: Expression): boolean {
  return expression.kind === "truth" && expression.value === False;
}

function demandsOwnership(before: Expression, { owner }: Table): boolean {
  const demands = before.kind === "and" ? before.terms : [before];
  const isOwners = (path: FieldPath) => path.length === owner?.length && path.every((field, at) => field === owner[at]);
  return demands.some((term) => term.kind === "belongs" && isOwners(term.path));
}

/** Whether a step applies to a change: a permit must hold before and after by itself. */
export function appliesToChange(step: Step, before: Row, after: Row, reading: Reading, later: Reading): boolean {
  if (step.phase === "permit") {
    return step.testBefore(before, reading) === True && step.testAfter(after, later) === True;
  }
  if (step.alsoAfter) {
    const meets = step.testWho(before, reading) !== False;
    return meets && (step.testWhere(before, reading) !== False || step.testWhere(after, later) !== False);
  }
  return step.testBefore(before, reading) !== False && step.testAfter(after, later) !== False;
}

/** Whether a block or confirm on cells applies to what is moved into them: `where` is then tested after. */
export function appliesOnTheWayIn(step: Step, before: Row, after: Row, reading: Reading, later: Reading): boolean {
  return (
    step.testWho(before, reading) !== False &&
    step.testWhere(after, later) !== False &&
    step.testAfter(after, later) !== False
  );
}
