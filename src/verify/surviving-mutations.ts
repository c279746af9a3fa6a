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

/** A mistake that no expectation notices. */
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
  /** How many mistakes were tried. */
  readonly tried: number;
  readonly noticed: number;
  /** Mistakes that change nothing for anybody on the records at hand: no expectation could notice them here. */
  readonly without: readonly Mutation[];
  /** The worst first. */
  readonly unnoticed: readonly SurvivingMutation[];
}

export interface MutationOptions {
  /** Reads the expectations against a document that was changed. */
  readonly read: (portier: Portier) => readonly Expectation[];
  readonly data: (portier: Portier) => ExpectationData;
  /** Everybody under a document. */
  readonly viewers: (portier: Portier) => readonly Viewer[];
  readonly records: (table: string) => Iterable<Row>;
  /** Told of each mistake that was tried. */
  readonly onTried?: (tried: number, all: number) => void;
}

/**
 * Changes the rules one small step at a time and says which changes no expectation notices, those by which most becomes
 * visible first. Expectations that are not met by the document as it is notice nothing.
 */
export function survivingMutations(document: DocumentInput, portier: Portier, options: MutationOptions): MutationRun {
  const met = new Set(
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
  const unnoticed: SurvivingMutation[] = [];
  const without: Mutation[] = [];
  let noticed = 0;
  for (const [index, { mutation, changed }] of mutations.entries()) {
    options.onTried?.(index + 1, mutations.length);
    if (
      openResults(changed, options, bearing.on(changed, mutation.table)).some(
        (result) => !result.passed && met.has(idOf(result)),
      )
    ) {
      noticed++;
      continue;
    }
    const viewers = options.viewers(changed);
    const differences = diffAccess(before, viewers, new ComparedRecords(options.records, compared));
    // What a change may lead to shows on no record as it is.
    if (differences.length === 0 && !ruleDifferences(before, viewers).some(({ isTentative }) => isTentative)) {
      without.push(mutation);
      continue;
    }
    const lines = differences.flatMap(({ persons, gains }) => gains.map((gain) => ({ persons, gain })));
    const weight = ({ persons, gain }: (typeof lines)[number]) =>
      persons.length * Math.max(1, gain.records ?? 1) * Math.max(1, gain.fields.length) * gain.actions.length;
    const gained = lines.reduce((sum, line) => sum + weight(line), 0);
    const kind = gained > 0 ? "gain" : differences.length > 0 ? "loss" : "other";
    unnoticed.push({ mutation, kind, gained, samples: [...lines].sort((a, b) => weight(b) - weight(a)).slice(0, 3) });
  }
  unnoticed.sort((a, b) => b.gained - a.gained);
  return { tried: mutations.length, noticed, without, unnoticed };
}

/**
 * Which expectations a change of the rules can bear on: those about a table in which the rules come to something else for
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

/** A document that is no document any more is no mistake that could go unnoticed. */
function compiled(document: DocumentInput): Portier | undefined {
  try {
    return compile(document);
  } catch (error) {
    if (error instanceof PortierError) return undefined;
    throw error;
  }
}
