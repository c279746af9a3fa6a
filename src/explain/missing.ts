import { isContradiction } from "../conditions/contradiction.js";
import { and, type Expression, not } from "../conditions/expression.js";
import { type HeldNames, isSetting } from "./held-names.js";
import { readsOf } from "./reads.js";
import type { ConditionTrace, RuleTrace, TracedTruth } from "./trace.js";
import { expressionOf } from "./trace.js";

/** One way to be permitted: everything in `needs` together. */
export interface Remedy {
  /** The permit that would then apply. */
  readonly rule: string;
  /** All of them together are needed. */
  readonly needs: readonly MissingCondition[];
}

/** `text` says what is needed; `here` what is there instead. */
export interface MissingCondition {
  /** `setting`: something that is set of the person, to be taken back. */
  readonly kind: "who" | "where" | "setting";
  /** As a sentence goes on: `be registrar`, `status = 'draft'`. */
  readonly text: string;
  /** What is compared with, on this record: `on_loan`. */
  readonly here?: string;
}

/** A permit that could open a gate, and every deny and reserve that could close it. */
export interface Opening {
  readonly permit: RuleTrace;
  readonly blocks: readonly RuleTrace[];
}

/** All gates must open, each by one of its openings. */
export type Gates = readonly (readonly Opening[])[];

/** A hypothetical change: what the current user is or is not, which conditions are true or false. */
interface Change {
  readonly plus: readonly string[];
  readonly minus: readonly string[];
  readonly where: readonly { readonly trace: ConditionTrace; readonly isMet: boolean }[];
}

const nothing: Change = { plus: [], minus: [], where: [] };

/** How much is looked for: a document can hold more ways than anybody reads. */
const limits = { steps: 2_000, found: 24, changes: 6 } as const;

/**
 * What would allow what is denied, fewest conditions first. Each remedy is complete: whoever does what it says, and nothing else,
 * is permitted. So it also names what holds now and might not hold any more, as what is to be changed is read there, too; and
 * what does not block now, but would block somebody who has become what is needed.
 */
export function findRemedies(ways: readonly Gates[], held: HeldNames, more: readonly MissingCondition[]): Remedy[] {
  const found: Remedy[] = [];
  const search = new Search(held);
  for (const gates of ways) {
    for (const [opened, change] of search.open(gates, [], nothing)) {
      const needs = [...needsOf(change), ...more];
      if (needs.length > 0) found.push({ rule: opened.at(-1)?.permit.rule ?? "", needs });
      if (found.length >= limits.found) break;
    }
  }
  return joined(withoutLonger(found)).sort((a, b) => a.needs.length - b.needs.length);
}

class Search {
  readonly #held: HeldNames;
  #steps = 0;

  constructor(held: HeldNames) {
    this.#held = held;
  }

  /** Opens one gate after the other; yields what was opened, and the change under which all of it is open. */
  *open(gates: Gates, opened: readonly Opening[], change: Change): Iterable<[readonly Opening[], Change]> {
    const gate = gates[opened.length];
    if (gate === undefined) {
      if (this.#isPossible(change)) yield [opened, change];
      return;
    }
    const seen = new Set<string>();
    for (const opening of gate) {
      // What was opened before must stay open.
      for (const next of this.#repair([...opened, opening], change)) {
        const id = `${opening.permit.rule} ${JSON.stringify(needsOf(next))}`;
        if (seen.has(id)) continue;
        seen.add(id);
        yield* this.open(gates, [...opened, opening], next);
      }
      // One that is open as it is needs no other way.
      if (
        opened.length < gates.length - 1 &&
        [...seen].length === 1 &&
        this.#fault([...opened, opening], change) === undefined
      )
        return;
    }
  }

  /** The changes, on top of one, under which all of these are open. */
  *#repair(openings: readonly Opening[], change: Change): Iterable<Change> {
    if (this.#steps++ > limits.steps) return;
    if (change.plus.length + change.minus.length + change.where.length > limits.changes) return;
    const fault = this.#fault(openings, change);
    if (fault === undefined) yield change;
    else for (const next of fault) if (this.#isConsistent(next)) yield* this.#repair(openings, next);
  }

  /** What is not open yet, as the changes each of which would mend it; undefined where all is open. */
  #fault(openings: readonly Opening[], change: Change): readonly Change[] | undefined {
    for (const { permit, blocks } of openings) {
      const lacks = this.#permitLacks(permit, change);
      if (lacks !== undefined) return lacks;
      for (const block of blocks) {
        const lifts = this.#lifts(block, change);
        if (lifts !== undefined) return lifts;
      }
    }
    return undefined;
  }

  #permitLacks({ to, where }: RuleTrace, change: Change): readonly Change[] | undefined {
    if (!to.to.some((one) => this.#entry(one, change) === "true")) return this.#toBe(to.to, change);
    const barring = to.except.filter((one) => this.#entry(one, change) !== "false");
    if (barring.length > 0) return this.#notToBe(barring, change);
    const lacking = where && this.#lacking(where, change);
    // A setting opens what rules show of a record: what these lack is said of them.
    return lacking !== undefined && to.to.some(({ entry }) => isSetting(entry)) ? [] : lacking;
  }

  /** Undefined where the block does not apply. */
  #lifts({ effect, to, where }: RuleTrace, change: Change): readonly Change[] | undefined {
    const isIn = this.#isIn(to.to, change);
    const isOut = to.except.some((one) => this.#entry(one, change) === "true");
    const mayBeOut = to.except.some((one) => this.#entry(one, change) !== "false");
    const passes =
      effect === "reserve" ? to.to.some((one) => this.#entry(one, change) === "true") && !mayBeOut : !isIn || isOut;
    if (passes || (where !== undefined && this.#truth(where, change) === "false")) return undefined;
    const unmet = where === undefined ? [] : [this.#assume(where, false, change)];
    if (effect === "reserve") {
      const barring = to.except.filter((one) => this.#entry(one, change) !== "false");
      return [...(barring.length > 0 ? this.#notToBe(barring, change) : this.#toBe(to.to, change)), ...unmet];
    }
    const barring = to.to.filter((one) => this.#entry(one, change) !== "false");
    return [...this.#toBe(to.except, change), ...this.#notToBe(barring, change), ...unmet];
  }

  #isIn(entries: RuleTrace["to"]["to"], change: Change): boolean {
    return entries.some((one) => this.#entry(one, change) !== "false");
  }

  /** Whether the current user would match an entry; `unknown` where the change could affect it. */
  #entry({ entry, truth }: { readonly entry: string; readonly truth: TracedTruth }, change: Change): TracedTruth {
    if (change.plus.includes(entry)) return "true";
    if (change.minus.includes(entry)) return "false";
    if (entry === "anyone" || change === nothing) return truth;
    if (entry === "signed-in") return change.plus.length > 0 ? "true" : truth;
    const isOther = change.plus.length + change.minus.length > 0;
    const after = isOther ? this.#held.after(change.plus, change.minus, entry) : undefined;
    if (after !== undefined) return after;
    const isRelated = this.#held.isRelated(entry);
    if (isRelated && [...change.plus, ...change.minus].some((one) => this.#held.isRelated(one))) return "unknown";
    if (isRelated && isOther && this.#held.isVisitor) return "unknown";
    if (isRelated && truth !== "unknown" && this.#touches(this.#held.readsOf(entry), change)) return "unknown";
    return truth;
  }

  #truth(trace: ConditionTrace, change: Change): TracedTruth {
    const assumed = change.where.find((one) => one.trace.text === trace.text);
    if (assumed !== undefined) return assumed.isMet ? "true" : "false";
    const parts = trace.parts.map((part) => this.#truth(part, change));
    switch (trace.kind) {
      case "and":
        return parts.includes("false") ? "false" : (parts.find((one) => one !== "true") ?? "true");
      case "or":
        return parts.includes("true") ? "true" : (parts.find((one) => one !== "false") ?? "false");
      case "not":
        return parts[0] === "true" ? "false" : parts[0] === "false" ? "true" : (parts[0] ?? "unknown");
      case "test":
        return this.#touches(readsOf(expressionOf(trace)), change) ? "unknown" : trace.truth;
      default:
        return trace.kind satisfies never;
    }
  }

  /** Whether a change could alter what is read. */
  #touches(reads: ReadonlySet<string>, { plus, minus, where }: Change): boolean {
    if (where.some(({ trace }) => [...readsOf(expressionOf(trace))].some((one) => reads.has(one)))) return true;
    return [...plus, ...minus].some((entry) => [...this.#held.touchedBy(entry)].some((one) => reads.has(one)));
  }

  #toBe(entries: RuleTrace["to"]["to"], change: Change): Change[] {
    return entries
      .filter(
        ({ entry }) => this.#held.canBecome(entry) && !change.minus.includes(entry) && !change.plus.includes(entry),
      )
      .map(({ entry }) => ({ ...change, plus: [...change.plus, entry] }));
  }

  #notToBe(entries: RuleTrace["to"]["to"], change: Change): Change[] {
    const names = entries.map(({ entry }) => entry);
    const canNot = (entry: string) =>
      (isSetting(entry) || this.#held.canBecome(entry)) && entry !== "signed-in" && !change.plus.includes(entry);
    return names.length > 0 && names.every(canNot) ? [{ ...change, minus: [...change.minus, ...names] }] : [];
  }

  /** What keeps a condition from being true for certain: the parts of an "and" one by one. */
  #lacking(trace: ConditionTrace, change: Change): Change[] | undefined {
    const truth = this.#truth(trace, change);
    if (truth === "true" || truth === "open") return undefined;
    const part = trace.kind === "and" ? trace.parts.find((one) => this.#lacking(one, change) !== undefined) : undefined;
    return part === undefined ? [this.#assume(trace, true, change)] : this.#lacking(part, change);
  }

  #assume(trace: ConditionTrace, isMet: boolean, change: Change): Change {
    return { ...change, where: [...change.where, { trace, isMet }] };
  }

  #isConsistent({ plus, minus, where }: Change): boolean {
    if (plus.length > 0 && this.#held.clash(plus)) return false;
    if (minus.some((one) => plus.includes(one) || this.#held.gives(plus, one))) return false;
    return where.every(({ trace, isMet }) =>
      where.every((one) => one.trace.text !== trace.text || one.isMet === isMet),
    );
  }

  #isPossible({ where }: Change): boolean {
    const all = where.map(({ trace, isMet }): Expression => (isMet ? expressionOf(trace) : not(expressionOf(trace))));
    return all.length === 0 || !isContradiction(and(all));
  }
}

const toBeWords = "be ";

function needsOf({ plus, minus, where }: Change): MissingCondition[] {
  const names = minus.filter((entry) => !isSetting(entry));
  return [
    ...plus.map((entry): MissingCondition => ({ kind: "who", text: toBeWords + entry })),
    ...(names.length === 0 ? [] : [{ kind: "who", text: `not be ${names.join(", ")}` } as const]),
    ...minus.filter(isSetting).map((entry): MissingCondition => ({ kind: "setting", text: `without the ${entry}` })),
    ...where.map(({ trace, isMet }): MissingCondition => {
      return { kind: "where", text: isMet ? trace.text : `not (${trace.text})`, ...hereOf(trace) };
    }),
  ];
}

/** Leaves out a way that needs all that another needs, and more. */
function withoutLonger(found: readonly Remedy[]): Remedy[] {
  const sets = found.map(({ needs }) => new Set(needs.map(({ text }) => text)));
  return found.filter((_, index) => {
    const own = sets[index] as Set<string>;
    return !sets.some((other, at) => {
      if (at === index || ![...other].every((text) => own.has(text))) return false;
      return other.size < own.size || at < index;
    });
  });
}

/** Ways through one rule that differ in one name are one: "be a or b". */
function joined(found: readonly Remedy[]): Remedy[] {
  const ways = new Map<string, { rule: string; names: string[]; rest: readonly MissingCondition[] }>();
  for (const { rule, needs } of found) {
    const named = needs.filter(({ text }) => text.startsWith(toBeWords));
    const rest = needs.filter(({ text }) => !text.startsWith(toBeWords));
    const name = named.length === 1 ? named[0]?.text.slice(toBeWords.length) : undefined;
    const id = JSON.stringify([rule, rest, name === undefined ? named : "one"]);
    const way = ways.get(id) ?? { rule, names: [], rest: name === undefined ? needs : rest };
    if (name !== undefined) way.names.push(name);
    ways.set(id, way);
  }
  return [...ways.values()].map(({ rule, names, rest }) => {
    const who: MissingCondition[] = names.length === 0 ? [] : [{ kind: "who", text: toBeWords + names.join(" or ") }];
    return { rule, needs: [...who, ...rest] };
  });
}

function hereOf(trace: ConditionTrace): { here?: string } {
  const here = valuesOf(trace);
  return here === "" ? {} : { here };
}

/** `department is 'arms', me.department is 'textiles'`, each name once. */
export function valuesOf(trace: ConditionTrace): string {
  const values = new Map<string, string>();
  const visit = (one: ConditionTrace) => {
    for (const { name, value } of one.values) values.set(name, value);
    for (const part of one.parts) visit(part);
  };
  visit(trace);
  return [...values].map(([name, value]) => `${name} is ${value}`).join(", ");
}
