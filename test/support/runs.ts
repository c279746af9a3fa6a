import fc from "fast-check";

const { PORTIER_TIMES: given = "1", PORTIER_SEED: chosen } = process.env;

export const isLong = Number(given) > 1;

/**
 * How long random tests run: so many cases, or PORTIER_TIMES as many (`npm run test:long`). `engine`: the database that they run on; a
 * {@link isSampled} one takes a third of them.
 */
export function runsOf(cases: number, engine?: string): number {
  return Math.ceil((cases / (engine !== undefined && isSampled(engine) ? 3 : 1)) * Number(given));
}

/**
 * Whether an engine is only sampled: the embedded PostgreSQL, where a server is there on which the same cases run, and every path
 * must come up.
 */
export function isSampled(engine: string): boolean {
  return engine === "PGlite" && process.env["PORTIER_POSTGRES"] !== undefined && !isLong;
}

/**
 * From where random tests draw: the same cases each time, so that a change is told apart from bad luck. PORTIER_SEED draws others,
 * `any` each time.
 */
export function seedOf(usual: number): number {
  if (chosen === undefined) return usual;
  return chosen === "any" ? Math.floor(Math.random() * 2 ** 31) : Number(chosen);
}

fc.configureGlobal({ seed: seedOf(20_261_129), numRuns: runsOf(100) });
