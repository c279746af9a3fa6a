import type { CompiledQuery, DatabaseConnection, Driver, QueryResult } from "kysely";
import type { Connection, DriverRow } from "../database/connection.js";
import { typed } from "../database/retry.js";
import { portierError } from "../schema/problems.js";

/** Runs a statement over a connection, which is that of the transaction inside one; only reads where that is so. */
export type Run = (
  query: CompiledQuery,
  connection: Connection,
  isReadOnly: boolean,
) => Promise<QueryResult<DriverRow>>;

interface Ending {
  readonly commit: () => void;
  readonly rollback: () => void;
}

/** What Kysely's `transaction()` begins and ends by calls is here a piece of work that waits for them. */
class Link implements DatabaseConnection {
  readonly #connection: Connection;
  readonly #run: Run;
  #inside: Connection | undefined;
  #isReadOnly = false;
  #end: Ending | undefined;
  #done: Promise<void> | undefined;

  constructor(connection: Connection, run: Run) {
    this.#connection = connection;
    this.#run = run;
  }

  executeQuery<R>(query: CompiledQuery): Promise<QueryResult<R>> {
    const connection = this.#inside ?? this.#connection;
    return this.#run(query, connection, this.#isReadOnly).catch((error) => {
      throw typed(connection, error);
    }) as Promise<QueryResult<R>>;
  }

  // biome-ignore lint/correctness/useYield: it refuses
  async *streamQuery<R>(): AsyncIterableIterator<QueryResult<R>> {
    throw portierError("wrong-call", { what: "a person's view is not streamed", hint: "read it page by page" });
  }

  async begin(isReadOnly: boolean): Promise<void> {
    this.#isReadOnly = isReadOnly;
    await new Promise<void>((begun, failed) => {
      this.#done = this.#connection
        .transaction((inside) => {
          this.#inside = inside;
          return new Promise<void>((commit, reject) => {
            this.#end = { commit, rollback: () => reject(rolledBack) };
            begun();
          });
        })
        .catch((error: unknown) => {
          failed(typed(this.#connection, error));
          if (error !== rolledBack) throw error;
        });
      // Whoever ends the transaction waits for it; a failure before that is the failure to begin.
      this.#done.catch(() => {});
    });
  }

  commit(): Promise<void> {
    return this.#finish((end) => end.commit());
  }

  rollback(): Promise<void> {
    return this.#finish((end) => end.rollback());
  }

  async #finish(how: (end: Ending) => void): Promise<void> {
    const done = this.#done;
    if (this.#end !== undefined) how(this.#end);
    this.#inside = undefined;
    this.#end = undefined;
    this.#done = undefined;
    this.#isReadOnly = false;
    await done?.catch((error) => {
      throw typed(this.#connection, error);
    });
  }
}

const rolledBack = new Error("rolled back");

/** A driver of Kysely over a connection of this package. */
export function driverOf(connection: Connection, run: Run): Driver {
  return {
    init: async () => {},
    acquireConnection: async () => new Link(connection, run),
    beginTransaction: (link, { accessMode }) => (link as Link).begin(accessMode === "read only"),
    commitTransaction: (link) => (link as Link).commit(),
    rollbackTransaction: (link) => (link as Link).rollback(),
    releaseConnection: async () => {},
    destroy: async () => {},
  };
}
