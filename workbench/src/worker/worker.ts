import type { Bench } from "./bench.js";
import { Workbench } from "./workbench.js";

/** A question on its way into the worker, and what comes back. */
export interface Asked {
  readonly id: number;
  readonly name: keyof Bench;
  readonly given: readonly unknown[];
}
export type Answered = { readonly id: number } & ({ readonly answer: unknown } | { readonly failure: string });

const bench = new Workbench();

self.onmessage = ({ data: { id, name, given } }: MessageEvent<Asked>) => {
  try {
    const work = bench[name] as (...given: readonly unknown[]) => unknown;
    self.postMessage({ id, answer: work.apply(bench, [...given]) } satisfies Answered);
  } catch (error) {
    self.postMessage({ id, failure: error instanceof Error ? error.message : String(error) } satisfies Answered);
  }
};
