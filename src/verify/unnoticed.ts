import type { Row } from "../conditions/source.js";
import type { DocumentInput } from "../schema/document.js";
import { PortierError } from "../schema/problems.js";
import { compile, type Portier } from "../session/portier.js";
import type { ExpectationData } from "./expectations/asked.js";
import type { Expectation } from "./expectations/expectation.js";
import { runExpectations } from "./expectations/run-expectations.js";
import { type AccessChange, everybodysDifference, ruleDifferences } from "./gains.js";
import { type Mutation, mutationsOf } from "./mutations.js";
import type { Viewer } from "./viewers.js";

/** A mistake that no expectation notices. */
export interface Unnoticed {
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
  readonly unnoticed: readonly Unnoticed[];
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
export function findUnnoticed(document: DocumentInput, portier: Portier, options: MutationOptions): MutationRun {
  const met = new Set(
    openResults(portier, options)
      .filter(({ passed }) => passed)
      .map(idOf),
  );
  const before = options.viewers(portier);
  // Only what a change can bear on is looked at again.
  const mutations = [...mutationsOf(document)].flatMap((mutation) => {
    const changed = compiled(mutation.document);
    return changed === undefined ? [] : [{ mutation, changed }];
  });
  const unnoticed: Unnoticed[] = [];
  const without: Mutation[] = [];
  let noticed = 0;
  for (const [index, { mutation, changed }] of mutations.entries()) {
    options.onTried?.(index + 1, mutations.length);
    if (
      openResults(changed, options, affected(document, portier, mutation)).some(
        (result) => !result.passed && met.has(idOf(result)),
      )
    ) {
      noticed++;
      continue;
    }
    const viewers = options.viewers(changed);
    const differences = everybodysDifference(before, viewers, options.records);
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

/** Whether an answer about a table may depend on a rule: of that table, or of one that its rules or lookups ask about. */
function affected(document: DocumentInput, portier: Portier, { table }: Mutation): (asked: string) => boolean {
  const asksElsewhere = (name: string) => {
    const declared = portier.schema.tables.get(name);
    const rules = { ...document.tables[name]?.rules, ...document.tables["*"]?.rules };
    return (
      declared?.fields.some(({ lookup }) => lookup !== undefined) === true || /\bmay\b/i.test(JSON.stringify(rules))
    );
  };
  return (asked) => table === "*" || asked === table || asksElsewhere(asked);
}

function openResults(portier: Portier, { read, data }: MutationOptions, isAsked = (_table: string) => true) {
  const expectations = read(portier).filter(({ on }) => isAsked(on.table.name));
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
