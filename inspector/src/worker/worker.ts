import { Inspector } from "./inspector.js";
import type { InspectorApi } from "./protocol.js";

/** A question on its way into the worker, and what comes back. */
export interface Asked {
  readonly id: number;
  readonly name: keyof InspectorApi;
  readonly given: readonly unknown[];
}
export type Answered = { readonly id: number } & ({ readonly answer: unknown } | { readonly failure: string });

const inspector = new Inspector();

self.onmessage = ({ data: { id, name, given } }: MessageEvent<Asked>) => {
  try {
    const work = inspector[name] as (...given: readonly unknown[]) => unknown;
    self.postMessage({ id, answer: work.apply(inspector, [...given]) } satisfies Answered);
  } catch (error) {
    self.postMessage({ id, failure: error instanceof Error ? error.message : String(error) } satisfies Answered);
  }
};
