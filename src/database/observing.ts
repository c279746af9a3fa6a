import { portierError } from "../schema/problems.js";
import type { Schema } from "../schema/schema.js";
import { timestampOf } from "../schema/types/timestamp.js";
import { type Noted, type Observation, type Observed, observationsOf } from "../session/observation.js";

/** Where observations go. What it throws undoes the change that it is told of, so that nothing goes on unseen. */
export type Observe = (observation: Observation) => void;

/** What is noted while a call is answered; it is told at its end. */
export class Observing {
  readonly #observe: Observe;
  #noted: { readonly noted: Noted[]; readonly of: Observed }[] = [];
  #isDone = false;
  /** Whose session was the last one. */
  of: Observed | undefined;

  constructor(observe: Observe) {
    this.#observe = observe;
  }

  note(noted: readonly Noted[], of: Observed): void {
    if (noted.length === 0) return;
    this.#noted.push({ noted: [...noted], of });
    // A session that is kept goes on being asked.
    if (this.#isDone) this.tell();
  }

  /** Tells what was noted, each once. */
  tell(): void {
    this.#isDone = true;
    const at = timestampOf(new Date()) as string;
    const all = this.#noted;
    this.#noted = [];
    const [first] = all;
    if (first === undefined) return;
    const noted = all.flatMap((one) => one.noted);
    for (const observation of observationsOf(noted, first.of, at)) this.#observe(observation);
  }
}

/** The tables on which rules are tried out. */
export function observedTables({ tables }: Schema): readonly string[] {
  return [...tables.values()].filter(({ observe }) => observe).map(({ name }) => name);
}

const warned = new WeakSet<Schema>();

/**
 * Says once for a document that some of its tables are open.
 *
 * @throws PortierError (`wrong-call`) for a document that observes tables, where nobody is told what is observed.
 */
export function checkObserving(schema: Schema, observe: Observe | undefined): Observe | undefined {
  const tables = observedTables(schema);
  if (tables.length === 0) return undefined;
  if (observe === undefined) {
    const what = `the document observes ${tables.join(", ")}, and nobody is told what would be refused`;
    throw portierError("wrong-call", { what, hint: 'give "observe", or take "observe: true" out of the document' });
  }
  if (!warned.has(schema)) {
    warned.add(schema);
    // Whoever starts the application must see that its tables are open.
    const { console } = globalThis as { readonly console?: { warn(text: string): void } };
    console?.warn(`Portier observes ${tables.join(", ")}: nothing of it is refused or hidden, whatever the rules say.`);
  }
  return observe;
}
