import type { Row } from "../conditions/source.js";
import type { AnyDocument, DocumentTypes, TableOf, ValuesOf } from "../schema/document-types.js";
import { type ChangeOptions, type ChangeResult, invalid } from "../session/change-result.js";
import type { BatchResult } from "../session/check-batch.js";
import type { Portier } from "../session/portier.js";
import { isKnownTo, seenOf } from "../session/seen.js";
import type { Session } from "../session/session.js";
import type { Masked } from "../session/session-types.js";
import { messagesOf } from "../session/user-messages.js";
import type { Connection } from "./connection.js";
import { insertUntaken, lineTaken } from "./duplicate.js";
import { RecordChanged } from "./errors.js";
import type { ListQuery, Page } from "./listing.js";
import { type Observe, Observing } from "./observing.js";
import { NeedsTransaction } from "./records.js";
import type { Replica, Versioned } from "./replica.js";
import { inReading, inStatements, inTransaction } from "./retry.js";
import { type Again, refusedAfterwards, StoredDifferently, undone } from "./stored-differently.js";
import { canBeTogether } from "./together.js";
import { Work, type Worker, type WorkOptions } from "./work.js";

/** Options of a change in a database. */
export interface DatabaseChangeOptions extends ChangeOptions {
  /**
   * Whether the record, as the person sees it when it is locked (opened, or where they may only list it, listed), is the
   * one that they meant to change. If not, nothing is
   * done, and {@link RecordChanged} is thrown. Not asked about a record that is not there.
   */
  readonly expecting?: (seen: Row | undefined) => boolean;
}

/** Options of making a record in a database. */
export interface DatabaseCreateOptions extends ChangeOptions {
  /**
   * What else is done in the same transaction once the record is accepted, before it is written: making room for a row,
   * say. It is the application's own work and not judged. It may run again when another transaction stood in the way.
   */
  readonly before?: (inside: Connection, record: Row) => Promise<void>;
}

/** One of several changes that are made together. */
export interface KeyedChange<Values extends object = object> {
  /** The record's address: the key as text, several values joined by `/`. */
  readonly key: string;
  readonly values: Values;
}

/** Whose work it is, and what it needs besides. */
export interface UserWork extends Worker {
  readonly observe: Observe | undefined;
  /** Where is read from, if not from the primary. */
  readonly replica?: Replica | undefined;
  readonly minVersion?: bigint;
}

/**
 * One person at work on a database. Every call reads the current user anew, so a role that was revoked counts at once.
 *
 * A change runs in one transaction: the current user, the record (locked until the end) and whatever the rules read of others are
 * read in it, checked as `session.checkEdit` and the like check it, and what is accepted is written. What comes back is the record as the
 * person sees it then: undefined after delete, or where they do not. A change that is not accepted writes nothing; one that
 * fails is rolled back and throws: {@link ConflictError} where other transactions stand in the way for too long,
 * {@link ConstraintError} where the database does not take it, otherwise what the driver threw.
 */
export class UserDatabase<T extends DocumentTypes = AnyDocument> {
  readonly #portier: Portier<T>;
  readonly #connection: Connection;
  readonly #work: UserWork;

  /** Made by `createDatabase(...).as(...)`, not by applications. */
  constructor(portier: Portier<T>, connection: Connection, work: UserWork) {
    this.#work = work;
    this.#portier = portier;
    this.#connection = connection;
  }

  /**
   * Asks anything of the person's session, with the records that the answer needs fetched. `question` is called again
   * for as long as it reads what has not been fetched, so it must do nothing but ask.
   *
   * @example
   * await database.as("s-003").ask((session) => session.form("objects", record));
   */
  ask<R>(question: (session: Session<T>) => R): Promise<R> {
    return this.#reading("", (work) => work.ask(question));
  }

  /**
   * The person's session, for `where` and `maskedSelect`, `reach`, and questions that read no other record; one that does
   * is a fault, and so a denial: use {@link ask}.
   */
  session(): Promise<Session<T>> {
    return this.ask((session) => session);
  }

  /**
   * Asks about one stored record, undefined where there is none (or none that the key can name); otherwise as {@link ask}.
   * What it is told of it is the whole record: show what `session.mask` or `session.form` make of it.
   */
  about<R>(table: TableOf<T>, key: string, question: (session: Session<T>, record: Row | undefined) => R): Promise<R> {
    return this.#reading(table, (work) =>
      work.askAbout(table, [key], (session, [record]) => question(session, record)),
    );
  }

  /**
   * The records of a table as the person sees them, filtered, sorted and cut by the database. See {@link ListQuery}; it may
   * depend on the person's session, as in {@link ask}.
   */
  list<K extends TableOf<T>>(
    table: K,
    query: ListQuery | ((session: Session<T>) => ListQuery) = {},
  ): Promise<Page<Masked<T, K>>> {
    const queryOf = typeof query === "function" ? query : () => query;
    return this.#reading(`list ${table}`, (work) => work.list<Masked<T, K>>(table, queryOf));
  }

  /** Changes one record. `key` is its address: the key as text, several values joined by `/`. */
  edit<K extends TableOf<T>>(
    table: K,
    key: string,
    values: ValuesOf<T, K>,
    given: DatabaseChangeOptions = {},
  ): Promise<ChangeResult> {
    const { expecting, ...options } = given;
    const done = this.#changing(table, [key], async (work, find) => {
      const before = await find(key);
      await this.#expect(work, table, before, expecting);
      const check = (session: Session<T>, all: object) =>
        session.checkEdit(table, before, all as ValuesOf<T, K>, options);
      const outcome = await work.ask((session) => check(session, values));
      if (!outcome.accepted || before === undefined) return outcome;
      await work.update(table, before, outcome.changes);
      return work.told(table, outcome, values, { isNew: false, judge: check });
    });
    return done.catch(refusedAfterwards);
  }

  /** Makes a record. */
  async create<K extends TableOf<T>>(
    table: K,
    values: ValuesOf<T, K>,
    { before, ...options }: DatabaseCreateOptions = {},
  ): Promise<ChangeResult> {
    try {
      return await this.#inTransaction(async (work) => {
        const check = (session: Session<T>, all: object) => session.checkCreate(table, all as ValuesOf<T, K>, options);
        const outcome = await work.ask((session) => check(session, values));
        if (!outcome.accepted || outcome.record === undefined) return outcome;
        await before?.(work.inside, outcome.record);
        const record = await insertUntaken(work, table, outcome.record, 0);
        return work.told(table, { ...outcome, record }, values, { isNew: true, judge: check });
      });
    } catch (error) {
      if (error instanceof StoredDifferently) return refusedAfterwards(error);
      await lineTaken(this.#connection, error);
      return this.#keyTaken(table);
    }
  }

  /** Deletes a record. */
  delete(table: TableOf<T>, key: string, options?: DatabaseChangeOptions): Promise<ChangeResult> {
    const check = (session: Session<T>, before: Row | undefined, rest: ChangeOptions) =>
      session.checkDelete(table, before, rest);
    return this.#onRecord(table, key, check, (work, before) => work.remove(table, before), options);
  }

  /**
   * Performs a custom action: once it is accepted, `run` does the work in the same transaction, on the record as it is
   * locked.
   *
   * @example
   * await database.as("s-006").perform("approve", "loans", "l-7", async (inside) => {
   *   await inside.query("update loans set status = 'approved' where id = $1", ["l-7"]);
   * });
   */
  perform<K extends TableOf<T>>(
    action: T["tables"][K]["action"],
    table: K,
    key: string,
    run: (inside: Connection, record: Row) => Promise<void>,
    options?: DatabaseChangeOptions,
  ): Promise<ChangeResult> {
    const check = (session: Session<T>, before: Row | undefined, rest: ChangeOptions) =>
      session.checkAction(action, table, before, rest);
    return this.#onRecord(table, key, check, (work, before) => run(work.inside, before), options);
  }

  #onRecord(
    table: TableOf<T>,
    key: string,
    check: (session: Session<T>, before: Row | undefined, options: ChangeOptions) => ChangeResult,
    run: (work: Work<T>, before: Row) => Promise<void>,
    { expecting, ...options }: DatabaseChangeOptions = {},
  ): Promise<ChangeResult> {
    return this.#changing(table, [key], async (work, find) => {
      const before = await find(key);
      await this.#expect(work, table, before, expecting);
      const outcome = await work.ask((session) => check(session, before, options));
      if (!outcome.accepted || before === undefined) return outcome;
      await run(work, before);
      // The application's own work may have written anything.
      work.forget();
      return work.told(table, outcome, {});
    });
  }

  /** The same values for many records: all of it is done, or nothing. Each is judged on what those before it have left. */
  bulkEdit<K extends TableOf<T>>(
    table: K,
    keys: readonly string[],
    values: ValuesOf<T, K>,
    options?: ChangeOptions,
  ): Promise<BatchResult> {
    return this.#together(table, keys, keys, async (work, find, key) => {
      const before = await find(key);
      const check = (session: Session<T>, all: object) =>
        session.checkBulkEdit(table, [before], all as ValuesOf<T, K>, options).results[0] as ChangeResult;
      const outcome = await work.ask((session) => check(session, values));
      if (outcome.accepted && before !== undefined) await work.update(table, before, outcome.changes);
      return { outcome, given: values, again: { isNew: false, judge: check } };
    });
  }

  /**
   * Edits of many records, each with values of its own, such as a block that is pasted into a sheet: all of it is done, or
   * nothing. Each is judged as an edit by itself, on what those before it have left; a record that is named twice is changed
   * twice, in this order.
   */
  editEach<K extends TableOf<T>>(
    table: K,
    changes: readonly KeyedChange<ValuesOf<T, K>>[],
    options: ChangeOptions = {},
  ): Promise<BatchResult> {
    const keys = changes.map(({ key }) => key);
    return this.#together(table, keys, changes, async (work, find, { key, values }) => {
      const before = await find(key);
      const check = (session: Session<T>, all: object) =>
        session.checkEdit(table, before, all as ValuesOf<T, K>, options);
      const outcome = await work.ask((session) => check(session, values));
      if (outcome.accepted && before !== undefined) await work.update(table, before, outcome.changes);
      return { outcome, given: values, again: { isNew: false, judge: check } };
    });
  }

  /** New records from a file: all of them are made, or none. Each is judged on what those before it have left. */
  async import<K extends TableOf<T>>(
    table: K,
    lines: readonly ValuesOf<T, K>[],
    options?: ChangeOptions,
  ): Promise<BatchResult> {
    // Lines whose keys somebody else took just then: what the others come to is found out without them.
    const taken = new Set<number>();
    for (;;) {
      try {
        return await this.#together(table, [], lines, async (work, _find, values, line) => {
          if (taken.has(line)) return { outcome: this.#keyTaken(table), given: values };
          const check = (session: Session<T>, all: object) =>
            session.checkImport(table, [all as ValuesOf<T, K>], options).results[0] as ChangeResult;
          const outcome = await work.ask((session) => check(session, values));
          if (!outcome.accepted || outcome.record === undefined) return { outcome, given: values };
          const record = await insertUntaken(work, table, outcome.record, line);
          return { outcome: { ...outcome, record }, given: values, again: { isNew: true, judge: check } };
        });
      } catch (error) {
        taken.add(await lineTaken(this.#connection, error));
      }
    }
  }

  /** Does one thing after the other, each judged on what those before it have left; unless each is accepted, none is done. */
  #together<C>(
    table: TableOf<T>,
    keys: readonly string[],
    changes: readonly C[],
    change: (work: Work<T>, find: FindLocked, one: C, index: number) => Promise<JudgedChange<T>>,
  ): Promise<BatchResult> {
    const done = this.#changing(table, keys, async (work, find): Promise<BatchResult> => {
      const outcomes: ChangeResult[] = [];
      const given: object[] = [];
      const again: (Again<T> | undefined)[] = [];
      try {
        await work.inside.transaction(async () => {
          for (const [index, one] of changes.entries()) {
            const done = await change(work, find, one, index);
            outcomes.push(done.outcome);
            given.push(done.given);
            again.push(done.again);
          }
          if (!outcomes.every(({ accepted }) => accepted)) throw notAll;
        });
      } catch (error) {
        if (error !== notAll) throw error;
        return { accepted: false, results: outcomes.map((one, index) => undone(one, given[index] ?? {})) };
      }
      return { accepted: true, results: await work.toldEach(table, outcomes, given, again) };
    });
    return done.catch((error: unknown) => {
      if (error instanceof StoredDifferently) return { accepted: false, results: error.results };
      throw error;
    });
  }

  /**
   * Answers by a few statements, the last of which sees all that the answer is about; where that needs more of them, in a
   * transaction that reads. `kind`: questions that are alike in how much they read.
   */
  async #reading<R>(kind: string, run: (work: Work<T>) => Promise<R>): Promise<R> {
    const { replica, minVersion = 0n } = this.#work;
    if (replica === undefined) return this.#readingOn(this.#connection, kind, run);
    return replica.read(minVersion, (connection) =>
      this.#readingOn(connection, kind, async (work): Promise<Versioned<R>> => {
        const answer = await outcomeOf(connection, run(work));
        return { answer, version: work.version };
      }),
    );
  }

  async #readingOn<R>(connection: Connection, kind: string, run: (work: Work<T>) => Promise<R>): Promise<R> {
    const { long } = this.#work.remembered;
    const { isNested, dialect } = connection;
    const isVersioned = this.#work.replica !== undefined;
    if (!long.has(kind) && !isNested && canBeTogether(dialect)) {
      try {
        return await inStatements(connection, (inside) =>
          this.#observed(inside, run, { isLasting: false, isVersioned }),
        );
      } catch (error) {
        if (!(error instanceof NeedsTransaction)) throw error;
        long.add(kind);
      }
    }
    return inReading(connection, (inside) =>
      this.#observed(
        inside,
        async (work) => {
          const answer = await run(work);
          if (work.isShort) long.delete(kind);
          return answer;
        },
        { isVersioned },
      ),
    );
  }

  /**
   * Changes records that are named by their keys. Which of them the person knows of is looked up before, without a lock:
   * one that they do not know of is not locked and not waited for, as one that is not there.
   */
  async #changing<R>(
    table: TableOf<T>,
    keys: readonly string[],
    run: (work: Work<T>, find: FindLocked) => Promise<R>,
  ): Promise<R> {
    const known =
      keys.length === 0
        ? new Set<string>()
        : await this.#readingOn(this.#connection, table, (work) => knownOf(work, table, keys));
    return this.#inTransaction((work) =>
      run(work, async (key) => (known.has(key) ? (await work.find(table, [key], true))[0] : undefined)),
    );
  }

  #inTransaction<R>(run: (work: Work<T>) => Promise<R>): Promise<R> {
    return inTransaction(this.#connection, (inside) => this.#observed(inside, run));
  }

  /** What cannot be told of what is observed ends the transaction: nothing goes on unseen. */
  async #observed<R>(
    inside: Connection,
    run: (work: Work<T>) => Promise<R>,
    options: Omit<WorkOptions, "observing"> = {},
  ): Promise<R> {
    const { observe } = this.#work;
    const observing = observe && new Observing(observe);
    const done = await run(new Work(this.#portier, inside, this.#work, { observing, ...options }));
    observing?.tell();
    return done;
  }

  /** Whether the record is still as the person saw it. */
  async #expect(
    work: Work<T>,
    table: TableOf<T>,
    record: Row | undefined,
    expecting: DatabaseChangeOptions["expecting"],
  ) {
    if (expecting === undefined || record === undefined) return;
    const seen = await work.ask((session) => seenOf(session as unknown as Session, table, record));
    if (!expecting(seen)) throw new RecordChanged(`a record of "${table}" is not any more as it was seen`);
  }

  #keyTaken(name: TableOf<T>): ChangeResult {
    const field = this.#portier.schema.tables.get(name)?.key[0]?.name ?? "";
    return invalid([{ field, reason: "key-taken", message: messagesOf(this.#work.messages).keyTaken }]);
  }
}

/** The record of a key as it is locked; undefined where there is none that the person knows of. */
type FindLocked = (key: string) => Promise<Row | undefined>;

/** What came of it, to be given or thrown later; what ends the attempt itself is thrown now. */
async function outcomeOf<R>(connection: Connection, answer: Promise<R>): Promise<() => R> {
  try {
    const given = await answer;
    return () => given;
  } catch (error) {
    if (error instanceof NeedsTransaction || connection.isConflict(error)) throw error;
    return () => {
      throw error;
    };
  }
}

interface JudgedChange<T extends DocumentTypes> {
  readonly outcome: ChangeResult;
  /** The values that the person gave. */
  readonly given: object;
  /** Judges it with other values; not where nothing was written. */
  readonly again?: Again<T>;
}

async function knownOf<T extends DocumentTypes>(
  work: Work<T>,
  table: TableOf<T>,
  keys: readonly string[],
): Promise<ReadonlySet<string>> {
  return work.askAbout(table, keys, (session, found) => {
    const own = session as unknown as Session;
    return new Set(keys.filter((_, index) => found[index] !== undefined && isKnownTo(own, table, found[index])));
  });
}

/** Ends a transaction in which not everything was accepted. */
const notAll = new Error("not all of it is accepted");
