import type { Ruleset } from "../rules/ruleset.js";
import { portierError } from "../schema/problems.js";
import type { Connection } from "./connection.js";
import { checkCounting } from "./count-changes.js";
import { ReplicaBehind } from "./errors.js";
import { defaultPatience, now, wait } from "./retry.js";
import { versionOf } from "./state.js";

/**
 * A copy of the database from which is read, such as a hot standby of PostgreSQL. It lags: what somebody may do is counted by
 * the primary (see {@link replicaMigration}), the count comes with each answer, and an answer that is too old does not count.
 */
export interface ReplicaOptions {
  readonly connection: Connection;
  /**
   * How old may be what is known of who may do what, in milliseconds: whatever was committed longer than that before a
   * question was asked counts. The primary is asked for its count as often as this needs; 0: with each question.
   */
  readonly maxAge: number;
  /**
   * What becomes of a question while the copy is behind: it waits for the copy, for as long as the connection's `patience`; it
   * is asked of the primary; or it is refused ({@link ReplicaBehind}).
   */
  readonly behind: "wait" | "primary" | "refuse";
}

/** An answer, and how new it is. */
export interface Versioned<R> {
  /** Gives it, or throws what the question threw: that somebody may not ask is an answer, too. */
  readonly answer: () => R;
  /** How many changes there were when what it relies on was read; undefined where it relies on nothing. */
  readonly version: bigint | undefined;
}

/** How long is waited before the copy is asked again, in milliseconds: at first, and at most. */
const [firstWait, longestWait] = [5, 100];

/** Reads from a copy what is new enough. */
export class Replica {
  readonly #primary: Connection;
  readonly #options: ReplicaOptions;
  readonly #ruleset: Ruleset;
  #isChecked = false;
  /** What the primary was asked last, and when: on this process' own clock, which nobody sets back. */
  #asked: { readonly at: number; readonly version: Promise<bigint> } | undefined;

  /** @throws PortierError (`wrong-call`) for what cannot be a copy, and a bound that is none. */
  constructor(primary: Connection, options: ReplicaOptions, ruleset: Ruleset) {
    const { connection, maxAge, behind } = options;
    const wrong = (what: string, hint: string) => portierError("wrong-call", { what, hint });
    if (primary.dialect.name !== "postgres" || connection.dialect.name !== "postgres") {
      throw wrong("a copy that is read from is one of PostgreSQL", 'leave "replica" out');
    }
    if (primary.isNested === true || connection.isNested === true) {
      throw wrong("what is asked inside a transaction is not asked of a copy", 'leave "replica" out');
    }
    if (!(maxAge >= 0)) throw wrong(`maxAge is not a number of milliseconds: ${maxAge}`, "give 0 or more");
    if (!["wait", "primary", "refuse"].includes(behind)) {
      throw wrong(`behind is none of the possible: ${behind}`, 'give "wait", "primary" or "refuse"');
    }
    this.#primary = primary;
    this.#options = options;
    this.#ruleset = ruleset;
  }

  /**
   * Answers from the copy, if what it knows of who may do what is new enough, and at least of the version that was asked for.
   *
   * @throws ReplicaBehind where it is not and is not waited for any longer; what the primary's driver throws, where nobody
   * can tell.
   */
  async read<R>(minVersion: bigint, run: (connection: Connection) => Promise<Versioned<R>>): Promise<R> {
    const { connection, behind } = this.#options;
    const begun = now();
    const end = begun + (connection.patience ?? defaultPatience);
    for (let pause = firstWait; ; pause = Math.min(2 * pause, longestWait)) {
      const [known, found] = await Promise.all([this.#known(begun), run(connection)]);
      const isEnough = (version: bigint | undefined) => version === undefined || version >= minVersion;
      if (isEnough(found.version) && (found.version ?? known) >= known) return found.answer();
      if (behind === "primary") {
        const own = await run(this.#primary);
        if (isEnough(own.version)) return own.answer();
      }
      if (behind !== "wait" || now() + pause > end) throw new ReplicaBehind(found.version);
      await wait(pause);
    }
  }

  /** A count that the primary told at most `maxAge` before a question was asked, or after that. */
  async #known(begun: number): Promise<bigint> {
    if (!this.#isChecked) {
      await checkCounting(this.#primary, this.#ruleset);
      this.#isChecked = true;
    }
    // Whatever is committed before the primary is asked is in its answer, so that is as old as the question.
    const last = this.#asked;
    if (last !== undefined && last.at >= begun - this.#options.maxAge) return last.version;
    const asked = { at: now(), version: versionOf(this.#primary) };
    this.#asked = asked;
    // What failed tells nothing: the next one asks again.
    asked.version.catch(() => {
      if (this.#asked === asked) this.#asked = undefined;
    });
    return asked.version;
  }
}
