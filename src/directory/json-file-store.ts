import { existsSync, readFileSync, statSync } from "node:fs";
import { open, truncate } from "node:fs/promises";
import lockfile from "proper-lockfile";
import writeFileAtomic from "write-file-atomic";
import type { Row, Source } from "../conditions/source.js";
import { inOrder } from "../database/in-order.js";
import { applied, emptyState, type KeptState, keptOf, sourceWith } from "../people/kept-state.js";
import type { StoredWrite } from "../people/overlay.js";
import type { RecordEntry } from "../people/record-entry.js";
import { isAbout, type RoleStore } from "../people/role-store.js";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import { findTable } from "../schema/schema.js";
import type { AnyTables, TableTypes } from "../schema/table-types.js";
import type { Portier } from "../session/portier.js";

export interface JsonFileStoreOptions {
  /** The application's own records: people, and whatever rules read. */
  readonly source: Source;
}

/** Who holds what, in a file. */
export interface JsonFileStore extends RoleStore {
  /** The state as the file has it now, for `portier.session({ person, source: store.source })`. */
  readonly source: Source;
}

/** One line of the record: what was written, and from which state to which. */
interface Line {
  readonly version: number;
  readonly writes: readonly { readonly table: string; readonly before?: Row; readonly after?: Row }[];
  readonly entries: readonly RecordEntry[];
}

/** How long a process may be silent before its hold on the file counts as left behind, in milliseconds. */
const staleAfter = 5_000;
/** How often a file is looked at for those who watch, in milliseconds. */
const lookEvery = 250;

/**
 * Keeps who holds what in a JSON file, and the record of what was done in another beside it, `FILE.record`, one JSON object
 * a line. Both are there after a change or neither: the line is written first, and a state that a process left without
 * writing it is caught up with from there. Several processes may use the file; changes are made one after the other.
 *
 * @throws PortierError (`wrong-call`, `not-json`) for a file that is none of these, or a document that does not say
 * `people: { assignments: true }`.
 */
export function jsonFileStore<T extends TableTypes = AnyTables>(
  portier: Portier<T>,
  file: string,
  { source: own }: JsonFileStoreOptions,
): JsonFileStore {
  const { schema } = portier;
  const kept = keptOf(portier);
  const record = `${file}.record`;
  const turn = inOrder();
  const writeOf = ({ table, before, after }: Line["writes"][number]): StoredWrite[] => {
    const found = findTable(schema, table);
    return found === undefined ? [] : [{ table: found, before, after }];
  };
  const replayed = (from: KeptState, lines: readonly Line[]): KeptState =>
    lines.reduce((state, line) => {
      const next = applied(state, kept, line.writes.flatMap(writeOf));
      return { ...next, version: line.version };
    }, from);

  /** A record without a state: a process was killed before it wrote the first one, or somebody took the file away. */
  const withoutState = (): KeptState => {
    const { lines } = readRecord(record, 0);
    if (lines.length <= 1) return replayed(emptyState, lines);
    throw portierError("wrong-call", {
      what: `${file} is not there, but ${record} is`,
      hint: "restore it from a copy",
    });
  };

  let known: { readonly mark: string; readonly state: KeptState; readonly source: Source } | undefined;
  const current = () => {
    const mark = markOf(file);
    if (known?.mark !== mark) {
      const state = mark === "" ? withoutState() : readState(file);
      known = { mark, state, source: sourceWith(own, schema, state) };
    }
    return known;
  };
  const save = (state: KeptState) => writeFileAtomic(file, stateText(state));

  /** Brings the state up to the last line that was written whole, and drops one that was not. */
  const recover = async (): Promise<KeptState> => {
    const { state } = current();
    const { lines, length, size } = readRecord(record, state.version);
    if (length < size) await truncate(record, length);
    if (lines.length === 0) return state;
    const caughtUp = replayed(state, lines);
    await save(caughtUp);
    return caughtUp;
  };

  current();
  return {
    keepsPersons: false,
    get source() {
      return current().source;
    },
    read: async (question) => question(current().source),
    change: (work) =>
      turn(() =>
        locked(file, async (isHeld) => {
          let state = await recover();
          return work({
            read: async (question) => question(sourceWith(own, schema, state)),
            write: async (writes, entries) => {
              const next = applied(state, kept, writes);
              const line: Line = {
                version: next.version,
                writes: writes.map(({ table, before, after }) => ({
                  table: table.name,
                  ...(before === undefined ? {} : { before }),
                  ...(after === undefined ? {} : { after }),
                })),
                entries,
              };
              if (!isHeld()) throw portierError("fault", { what: `another process took ${file} meanwhile` });
              await append(record, `${JSON.stringify(line)}\n`);
              await save(next);
              state = next;
            },
          });
        }),
      ),
    entries: async ({ person, limit = 100 } = {}) =>
      readRecord(record, 0)
        .lines.flatMap(({ entries }) => entries)
        .filter((entry) => isAbout(entry, person))
        .slice(-limit)
        .reverse(),
    watch: async (onChange) => {
      let { version } = current().state;
      const timer = setInterval(() => {
        const found = current().state.version;
        if (found === version) return;
        version = found;
        onChange();
      }, lookEvery);
      timer.unref();
      return async () => clearInterval(timer);
    },
  };
}

async function locked<R>(file: string, work: (isHeld: () => boolean) => Promise<R>): Promise<R> {
  let isHeld = true;
  const release = await lockfile.lock(file, {
    realpath: false,
    stale: staleAfter,
    update: staleAfter / 5,
    retries: { retries: 200, factor: 1.1, minTimeout: 10, maxTimeout: 200, randomize: true },
    onCompromised: () => {
      isHeld = false;
    },
  });
  try {
    return await work(() => isHeld);
  } finally {
    if (isHeld) await release();
  }
}

/** Something that differs whenever the file was replaced: each state is a new file under the old name. */
function markOf(file: string): string {
  if (!existsSync(file)) return "";
  const { ino, mtimeNs, size } = statSync(file, { bigint: true });
  return `${ino} ${mtimeNs} ${size}`;
}

function stateText({ version, assignments, delegations }: KeptState): string {
  const rows = (list: readonly Row[]) =>
    list.length === 0 ? "[]" : `[\n${list.map((row) => `    ${JSON.stringify(row)}`).join(",\n")}\n  ]`;
  return `{\n  "version": ${version},\n  "assignments": ${rows(assignments)},\n  "delegations": ${rows(delegations)}\n}\n`;
}

function readState(file: string): KeptState {
  if (!existsSync(file)) return emptyState;
  const value = parsed(readFileSync(file, "utf8"), file);
  const { version, assignments, delegations } = isMapping(value) ? value : {};
  const isRows = (rows: unknown): rows is Row[] => Array.isArray(rows) && rows.every(isMapping);
  if (typeof version === "number" && isRows(assignments) && isRows(delegations)) {
    return { version, assignments, delegations };
  }
  const hint = 'it holds { "version": 0, "assignments": [], "delegations": [] }';
  throw portierError("wrong-call", { what: `${file} does not hold who holds what`, hint });
}

/** The lines after a version that were written whole, and where the last one ends. */
function readRecord(file: string, after: number): { lines: readonly Line[]; length: number; size: number } {
  if (!existsSync(file)) return { lines: [], length: 0, size: 0 };
  const bytes = readFileSync(file);
  const length = bytes.lastIndexOf(0x0a) + 1;
  const texts = bytes.subarray(0, length).toString("utf8").split("\n").slice(0, -1);
  const lines = texts.map((text) => parsed(text, file) as Line).filter(({ version }) => version > after);
  return { lines, length, size: bytes.length };
}

function parsed(text: string, file: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    const why = error instanceof Error ? error.message : String(error);
    throw portierError("wrong-call", { what: `${file} is not JSON: ${why}`, hint: "restore it from a copy" });
  }
}

/** Adds a line, and returns when it is on the disk. */
async function append(file: string, text: string): Promise<void> {
  const handle = await open(file, "a");
  try {
    await handle.writeFile(text);
    await handle.sync();
  } finally {
    await handle.close();
  }
}
