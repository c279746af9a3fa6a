import type { Row } from "../conditions/source.js";
import type { DocumentInput } from "../schema/document.js";
import { PortierError } from "../schema/problems.js";
import { compile, type Portier } from "../session/portier.js";
import type { Session } from "../session/session.js";
import { tablesThatDiffer } from "./compared-plans.js";
import { type ExpectationData, openExpected } from "./expectations/asked.js";
import type { Expectation } from "./expectations/expectation.js";
import { runExpectations } from "./expectations/run-expectations.js";
import { type AccessChange, ComparedRecords, diffAccess } from "./gains.js";
import { type Mutation, mutationsOf } from "./mutations.js";
import { ruleDifferences } from "./rule-differences.js";
import type { Viewer } from "./viewers.js";

/** A mutation of the rules that no expectation detects. */
export interface SurvivingMutation {
  readonly mutation: Mutation;
  /** `other`: nobody gains or loses on the records as they are, but what a change may lead to is different. */
  readonly kind: "gain" | "loss" | "other";
  /** How much more becomes visible or possible by it: records, fields and persons multiplied out. */
  readonly gained: number;
  /** Some of it. */
  readonly samples: readonly { readonly persons: readonly string[]; readonly gain: AccessChange }[];
}

export interface MutationRun {
  /** How many mutations were tried. */
  readonly tried: number;
  readonly detected: number;
  /** Mutations that change nothing for anybody on the records at hand: no expectation could detect them. */
  readonly equivalent: readonly Mutation[];
  /** Those that no expectation detects, the worst first. */
  readonly survived: readonly SurvivingMutation[];
}

export interface MutationOptions {
  /** Reads the expectations against a document that was changed. */
  readonly read: (portier: Portier) => readonly Expectation[];
  readonly data: (portier: Portier) => ExpectationData;
  /** Everybody under a document. */
  readonly viewers: (portier: Portier) => readonly Viewer[];
  readonly records: (table: string) => Iterable<Row>;
  /** Called after each mutation. */
  readonly onProgress?: (tried: number, all: number) => void;
}

/**
 * Changes the rules one small step at a time and says which changes no expectation detects, those by which most becomes
 * visible first. Expectations that fail for the document as it is detect nothing.
 */
export function survivingMutations(document: DocumentInput, portier: Portier, options: MutationOptions): MutationRun {
  const passing = new Set(
    openResults(portier, options)
      .filter(({ passed }) => passed)
      .map(idOf),
  );
  const before = options.viewers(portier);
  const compared = new ComparedRecords(options.records);
  const bearing = new Bearing(portier, options);
  const mutations = [...mutationsOf(document)].flatMap((mutation) => {
    const changed = compiled(mutation.document);
    return changed === undefined ? [] : [{ mutation, changed }];
  });
  const survived: SurvivingMutation[] = [];
  const equivalent: Mutation[] = [];
  let detected = 0;
  for (const [index, { mutation, changed }] of mutations.entries()) {
    options.onProgress?.(index + 1, mutations.length);
    if (
      openResults(changed, options, bearing.on(changed, mutation.table)).some(
        (result) => !result.passed && passing.has(idOf(result)),
      )
    ) {
      detected++;
      continue;
    }
    const viewers = options.viewers(changed);
    const differences = diffAccess(before, viewers, new ComparedRecords(options.records, compared));
    // What a change may lead to shows on no record as it is.
    if (differences.length === 0 && !ruleDifferences(before, viewers).some(({ isTentative }) => isTentative)) {
      equivalent.push(mutation);
      continue;
    }
    const lines = differences.flatMap(({ persons, gains }) => gains.map((gain) => ({ persons, gain })));
    const weight = ({ persons, gain }: (typeof lines)[number]) =>
      persons.length * Math.max(1, gain.records ?? 1) * Math.max(1, gain.fields.length) * gain.actions.length;
    const gained = lines.reduce((sum, line) => sum + weight(line), 0);
    const kind = gained > 0 ? "gain" : differences.length > 0 ? "loss" : "other";
    survived.push({ mutation, kind, gained, samples: [...lines].sort((a, b) => weight(b) - weight(a)).slice(0, 3) });
  }
  survived.sort((a, b) => b.gained - a.gained);
  return { tried: mutations.length, detected, equivalent, survived };
}

/**
 * Which expectations a change of the rules can change the outcome of: those about a table in which the rules come to something else for
 * the one whom they are about.
 */
class Bearing {
  readonly #options: MutationOptions;
  readonly #data: ExpectationData;
  readonly #portier: Portier;
  readonly #before = new Map<string, Session>();

  constructor(portier: Portier, options: MutationOptions) {
    this.#portier = portier;
    this.#options = options;
    this.#data = options.data(portier);
  }

  on(changed: Portier, table: string): (expectation: Expectation) => boolean {
    const data = this.#options.data(changed);
    const only = table === "*" ? undefined : table;
    const tables = new Map<string, ReadonlySet<string>>();
    return ({ as, at, on }) => {
      const key = JSON.stringify([as, at]);
      const before = this.#before.get(key) ?? openExpected(this.#portier, { as, at }, this.#data);
      this.#before.set(key, before);
      const differing =
        tables.get(key) ??
        new Set(tablesThatDiffer(before, openExpected(changed, { as, at }, data), only).map(({ name }) => name));
      tables.set(key, differing);
      return differing.has(on.table.name);
    };
  }
}

function openResults(portier: Portier, { read, data }: MutationOptions, isAsked = (_: Expectation) => true) {
  const expectations = read(portier).filter(isAsked);
  return runExpectations(portier, expectations, data(portier));
}

function idOf({ path, what }: { readonly path: readonly unknown[]; readonly what: string }): string {
  return JSON.stringify([path, what]);
}

/** A mutation that does not compile cannot survive. */
function compiled(document: DocumentInput): Portier | undefined {
  try {
    return compile(document);
  } catch (error) {
    if (error instanceof PortierError) return undefined;
    throw error;
  }
}
