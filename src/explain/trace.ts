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
  readonly #prepared: PreparedTraces;

  constructor(ruleset: Ruleset, subject: OpenedSubject, plan: Plan, reading: Reading, record: Row | undefined) {
    this.#ruleset = ruleset;
    this.#subject = subject;
    this.#judge = (action, table) => compileTruth(plan.judged(table), action);
    this.#reading = quietly(reading);
    this.#record = record;
    this.#prepared = preparedFor(subject);
  }

  describe(expression: Expression | undefined): string | undefined {
    return expression === undefined ? undefined : textOf(expression);
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
    const text = textOf(expression);
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
    const known = this.#prepared.entries;
    const found = known.get(who);
    if (found !== undefined) return found;
    const truth = this.#subject.meets
      ? this.#safely(() => this.#truth(entryApplies(who, this.#subject)), "unknown")
      : "false";
    const through = who.kind === "member" ? this.#safely(() => this.#through(who.name), []) : [];
    const entry = { entry: who.text, truth, through };
    // Whether somebody holds a role is the same for each record.
    if (who.kind === "member") known.set(who, entry);
    return entry;
  }

  /** The nearest of the ways in which the person comes to a role or into a group. */
  #through(name: string): readonly string[] {
    const { memberships } = this.#subject;
    return memberships === undefined ? [] : (waysInto(this.#ruleset, memberships, name)[0]?.through ?? []);
  }

  #truth(expression: Expression): TracedTruth {
    const { tests } = this.#prepared;
    const test = tests.get(expression) ?? this.#prepare(expression);
    tests.set(expression, test);
    if (typeof test === "string") return test;
    return this.#record === undefined
      ? "open"
      : this.#safely(() => truthNames[test(this.#record as Row, this.#reading) as Truth], "unknown");
  }

  /** A condition as it is for this person: how it comes out whatever the record, or a test of one. */
  #prepare(expression: Expression): Prepared {
    const { known, membership } = this.#subject;
    const residual = this.#safely(() => specialize(expression, known, undefined, membership), expression);
    if (residual.kind === "truth") return truthNames[residual.value];
    if (residual.kind === "open") return "open";
    let test: Test | undefined;
    return (record, reading) => {
      test ??= compileTest(residual, this.#judge);
      return test(record, reading);
    };
  }

  #values(expression: Expression): { name: string; value: string }[] {
    return comparedOperands(expression)
      .filter((operand) => operand.kind !== "constant")
      .map((operand) => this.#value(operand));
  }

  #value(operand: Operand): { name: string; value: string } {
    const { reads } = this.#prepared;
    const read = reads.get(operand) ?? this.#prepareRead(operand);
    reads.set(operand, read);
    return { name: read.name, value: this.#read(operand, read) };
  }

  #read({ type }: Operand, read: PreparedRead): string {
    if (this.#record === undefined && !read.isFixed) return "(depends on the record)";
    const value = this.#safely(() => read.value(this.#record ?? {}, this.#reading), undefined);
    if (value === undefined) return "(unreadable)";
    return value === null ? "null" : type.literal(value);
  }

  #prepareRead(operand: Operand): PreparedRead {
    const residual = this.#safely(() => specializeOperand(operand, this.#subject.known), operand);
    let read: ReturnType<typeof compileRead> | undefined;
    return {
      name: describeOperand(operand),
      isFixed: residual.kind === "constant" || residual.kind === "unreadable",
      value: (record, reading) => {
        read ??= compileRead(residual);
        return read(record, reading);
      },
    };
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

const texts = new WeakMap<Expression, string>();

/** A condition in words: of many records one is asked the same. */
function textOf(expression: Expression): string {
  const text = texts.get(expression) ?? describeExpression(expression);
  texts.set(expression, text);
  return text;
}

type Test = ReturnType<typeof compileTest>;
type Prepared = TracedTruth | Test;

interface PreparedRead {
  readonly name: string;
  /** Whether it is the same for each record. */
  readonly isFixed: boolean;
  readonly value: ReturnType<typeof compileRead>;
}

/** What is the same for each record that one person's answers are explained of. */
interface PreparedTraces {
  readonly entries: WeakMap<Who, EntryTrace>;
  readonly tests: WeakMap<Expression, Prepared>;
  readonly reads: WeakMap<Operand, PreparedRead>;
}

const prepared = new WeakMap<OpenedSubject, PreparedTraces>();

function preparedFor(subject: OpenedSubject): PreparedTraces {
  const known = prepared.get(subject) ?? { entries: new WeakMap(), tests: new WeakMap(), reads: new WeakMap() };
  prepared.set(subject, known);
  return known;
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
