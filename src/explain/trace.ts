import { describeExpression, describeOperand } from "../conditions/describe.js";
import { compileTest, type Judge } from "../conditions/evaluate.js";
import { type Expression, type Operand, operandsOf } from "../conditions/expression.js";
import { compileRead, quietly, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { specialize, specializeOperand } from "../conditions/specialize.js";
import { type Truth, truthNames } from "../conditions/truth.js";
import type { ActionName } from "../rules/actions.js";
import type { EffectName } from "../rules/effects.js";
import type { Rule, Who } from "../rules/rule.js";
import type { Ruleset } from "../rules/ruleset.js";
import { compileTruth } from "../session/conditions.js";
import type { OpenedSubject } from "../session/open-subject.js";
import type { Plan } from "../session/plan.js";
import { entryApplies } from "../session/step.js";
import { waysInto } from "./membership-paths.js";

/** `open` where the answer depends on a record and none was given. */
export type TracedTruth = (typeof truthNames)[number] | "open";

/** A condition, how it came out, and the values it compared. `parts` are the terms of an "and", "or" or "not". */
export interface ConditionTrace {
  readonly text: string;
  readonly truth: TracedTruth;
  /** A `test` compares; the others are made of `parts`. */
  readonly kind: "and" | "or" | "not" | "test";
  /** What was compared, by the name it has in the condition; of a test alone. */
  readonly values: readonly { readonly name: string; readonly value: string }[];
  readonly parts: readonly ConditionTrace[];
}

/** How the current user stands to the `to` and `except` of a rule. */
export interface WhoTrace {
  readonly truth: TracedTruth;
  /** Any of them suffices. */
  readonly to: readonly EntryTrace[];
  /** Any of them takes the person out again. */
  readonly except: readonly EntryTrace[];
}

/** One entry of a rule's `to` or `except`. */
export interface EntryTrace {
  /** As written: `keeper`, `above owner`, `lead of exhibition`. */
  readonly entry: string;
  readonly truth: TracedTruth;
  /** For a role or group that is met: what it comes through, from the nearest on. */
  readonly through: readonly string[];
}

/** How one rule stood towards a question. */
export interface RuleTrace {
  /** The rule's address, `objects/labels-are-public`. */
  readonly rule: string;
  readonly effect: EffectName;
  /** The action of the rule that counted: a permitted view also permits list. */
  readonly action: ActionName;
  /** Whether the rule's extent takes in the field (or, asked without one, anything at all). */
  readonly covers: boolean;
  /** The fields that the rule's extent takes in, in declared order. */
  readonly fields: readonly string[];
  readonly to: WhoTrace;
  /** Undefined where the rule has no condition. */
  readonly where: ConditionTrace | undefined;
  /** What a change must lead to; never decided here, as no values are given. */
  readonly becomes: string | undefined;
  /** For a rule that is there for a time: its bounds (instants in UTC), and whether the session's instant is within. */
  readonly period: { readonly from?: string; readonly until?: string; readonly inForce: boolean } | undefined;
  /** Whether the rule counts for the answer; `open` where that depends on the record or the change. */
  readonly applies: "yes" | "no" | "open";
  readonly note: string | undefined;
}

const ranks: Readonly<Record<TracedTruth, number>> = { false: 0, unknown: 1, open: 1.5, true: 2 };

const expressions = new WeakMap<ConditionTrace, Expression>();

/** The condition that a trace is about. */
export function expressionOf(trace: ConditionTrace): Expression {
  return expressions.get(trace) as Expression;
}

/** Evaluates conditions part by part with the evaluator that decides, keeping what each part compared. */
export class Tracer {
  readonly #ruleset: Ruleset;
  readonly #subject: OpenedSubject;
  readonly #reading: Reading;
  readonly #record: Row | undefined;
  readonly #judge: Judge;

  constructor(ruleset: Ruleset, subject: OpenedSubject, plan: Plan, reading: Reading, record: Row | undefined) {
    this.#ruleset = ruleset;
    this.#subject = subject;
    this.#judge = (action, table) => compileTruth(plan.judged(table), action);
    this.#reading = quietly(reading);
    this.#record = record;
  }

  describe(expression: Expression | undefined): string | undefined {
    return expression === undefined ? undefined : describeExpression(expression);
  }

  who(rule: Rule): WhoTrace {
    const traceAll = (entries: readonly Who[]) => entries.map((who) => this.#traceEntry(who));
    const to = traceAll(rule.to);
    const except = traceAll(rule.except);
    const met = greatest(to.map(({ truth }) => truth));
    const out = greatest(except.map(({ truth }) => truth));
    return { truth: least([met, opposite(out)]), to, except };
  }

  condition(expression: Expression): ConditionTrace {
    const trace = this.#trace(expression);
    expressions.set(trace, expression);
    return trace;
  }

  #trace(expression: Expression): ConditionTrace {
    const text = describeExpression(expression);
    if (expression.kind === "and" || expression.kind === "or") {
      const parts = expression.terms.map((term) => this.condition(term));
      const truths = parts.map(({ truth }) => truth);
      const truth = expression.kind === "and" ? least(truths) : greatest(truths);
      return { text, truth, kind: expression.kind, values: [], parts };
    }
    if (expression.kind === "not") {
      const part = this.condition(expression.term);
      return { text, truth: opposite(part.truth), kind: "not", values: part.values, parts: [part] };
    }
    return { text, truth: this.#truth(expression), kind: "test", values: this.#values(expression), parts: [] };
  }

  #traceEntry(who: Who): EntryTrace {
    const truth = this.#subject.meets
      ? this.#safely(() => this.#truth(entryApplies(who, this.#subject)), "unknown")
      : "false";
    const through = who.kind === "member" ? this.#safely(() => this.#through(who.name), []) : [];
    return { entry: who.text, truth, through };
  }

  /** The nearest of the ways in which the person comes to a role or into a group. */
  #through(name: string): readonly string[] {
    const { memberships } = this.#subject;
    return memberships === undefined ? [] : (waysInto(this.#ruleset, memberships, name)[0]?.through ?? []);
  }

  #truth(expression: Expression): TracedTruth {
    const { known, membership } = this.#subject;
    const residual = this.#safely(() => specialize(expression, known, undefined, membership), expression);
    if (residual.kind === "truth") return truthNames[residual.value];
    if (this.#record === undefined || residual.kind === "open") return "open";
    return this.#safely(
      () => truthNames[compileTest(residual, this.#judge)(this.#record as Row, this.#reading) as Truth],
      "unknown",
    );
  }

  #values(expression: Expression): { name: string; value: string }[] {
    return comparedOperands(expression)
      .filter((operand) => operand.kind !== "constant")
      .map((operand) => ({ name: describeOperand(operand), value: this.#value(operand) }));
  }

  #value(operand: Operand): string {
    const residual = this.#safely(() => specializeOperand(operand, this.#subject.known), operand);
    const isFixed = residual.kind === "constant" || residual.kind === "unreadable";
    if (this.#record === undefined && !isFixed) return "(depends on the record)";
    const value = this.#safely(() => compileRead(residual)(this.#record ?? {}, this.#reading), undefined);
    if (value === undefined) return "(unreadable)";
    return value === null ? "null" : operand.type.literal(value);
  }

  /** An explanation of a fault should itself not fail. */
  #safely<T>(read: () => T, otherwise: T): T {
    try {
      return read();
    } catch {
      return otherwise;
    }
  }
}

/** What a test compares. Who entries and `exists` say what they need in their own words. */
function comparedOperands(expression: Expression): readonly Operand[] {
  const isAside = expression.kind === "belongs" || expression.kind === "above" || expression.kind === "exists";
  return isAside ? [] : operandsOf(expression);
}

function greatest(truths: readonly TracedTruth[]): TracedTruth {
  return truths.reduce((best, truth) => (ranks[truth] > ranks[best] ? truth : best), "false");
}

function least(truths: readonly TracedTruth[]): TracedTruth {
  return truths.reduce((worst, truth) => (ranks[truth] < ranks[worst] ? truth : worst), "true");
}

function opposite(truth: TracedTruth): TracedTruth {
  return truth === "true" ? "false" : truth === "false" ? "true" : truth;
}
