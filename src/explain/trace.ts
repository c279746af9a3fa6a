import { describeExpression, describeOperand } from "../conditions/describe.js";
import { compileRead, compileTest, type Reading } from "../conditions/evaluate.js";
import type { Expression, Operand } from "../conditions/expression.js";
import type { Row } from "../conditions/source.js";
import { specialize, specializeOperand } from "../conditions/specialize.js";
import { type Truth, truthNames } from "../conditions/truth.js";
import type { ActionName } from "../rules/actions.js";
import type { EffectName } from "../rules/effects.js";
import type { Rule, Who } from "../rules/rule.js";
import { entryMet } from "../session/gate.js";
import type { Subject } from "../session/subject.js";

/** `open` where the answer depends on a record and none was given. */
export type TracedTruth = (typeof truthNames)[number] | "open";

/** A condition, how it came out, and the values it compared. `parts` are the terms of an "and", "or" or "not". */
export interface ConditionTrace {
  readonly text: string;
  readonly truth: TracedTruth;
  readonly kind: "and" | "or" | "not" | "test";
  readonly values: readonly { readonly name: string; readonly value: string }[];
  readonly parts: readonly ConditionTrace[];
}

export interface WhoTrace {
  readonly truth: TracedTruth;
  readonly to: readonly { readonly entry: string; readonly truth: TracedTruth }[];
  readonly except: readonly { readonly entry: string; readonly truth: TracedTruth }[];
}

/** How one rule stood towards a question. */
export interface RuleTrace {
  readonly rule: string;
  readonly effect: EffectName;
  /** The action of the rule that counted: a permitted view also permits list. */
  readonly action: ActionName;
  /** Whether the rule's extent takes in the field (or, asked without one, anything at all). */
  readonly covers: boolean;
  /** The fields that the rule's extent takes in, in declared order. */
  readonly fields: readonly string[];
  readonly to: WhoTrace;
  readonly where: ConditionTrace | undefined;
  /** What a change must lead to; never decided here, as no values are given. */
  readonly becomes: string | undefined;
  /** Whether the rule bears on the answer; `open` where that depends on the record or the change. */
  readonly applies: "yes" | "no" | "open";
  readonly note: string | undefined;
}

const ranks: Readonly<Record<TracedTruth, number>> = { false: 0, unknown: 1, open: 1.5, true: 2 };

/** Evaluates conditions part by part with the evaluator that decides, keeping what each part compared. */
export class Tracer {
  readonly #subject: Subject;
  readonly #reading: Reading;
  readonly #record: Row | undefined;

  constructor(subject: Subject, reading: Reading, record: Row | undefined) {
    this.#subject = subject;
    this.#reading = { source: reading.source, badData: () => {} };
    this.#record = record;
  }

  describe(expression: Expression | undefined): string | undefined {
    return expression === undefined ? undefined : describeExpression(expression);
  }

  who(rule: Rule): WhoTrace {
    const traceAll = (entries: readonly Who[]) => entries.map((who) => ({ entry: who.text, truth: this.#entry(who) }));
    const to = traceAll(rule.to);
    const except = traceAll(rule.except);
    const met = greatest(to.map(({ truth }) => truth));
    const out = greatest(except.map(({ truth }) => truth));
    return { truth: least([met, opposite(out)]), to, except };
  }

  condition(expression: Expression): ConditionTrace {
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

  #entry(who: Who): TracedTruth {
    return this.#subject.meets ? this.#truth(entryMet(who, this.#subject)) : "false";
  }

  #truth(expression: Expression): TracedTruth {
    const residual = specialize(expression, this.#subject.known);
    if (residual.kind === "truth") return truthNames[residual.value];
    if (this.#record === undefined) return "open";
    return this.#safely(
      () => truthNames[compileTest(residual)(this.#record as Row, this.#reading) as Truth],
      "unknown",
    );
  }

  #values(expression: Expression): { name: string; value: string }[] {
    return comparedOperands(expression)
      .filter((operand) => operand.kind !== "constant")
      .map((operand) => ({ name: describeOperand(operand), value: this.#value(operand) }));
  }

  #value(operand: Operand): string {
    const residual = specializeOperand(operand, this.#subject.known);
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

function comparedOperands(expression: Expression): readonly Operand[] {
  switch (expression.kind) {
    case "compare":
      return [expression.left, expression.right];
    case "in":
      return [expression.operand, ...expression.items];
    case "match":
      return [expression.operand, expression.pattern];
    case "is-null":
      return [expression.operand];
    default:
      return [];
  }
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
