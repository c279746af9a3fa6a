import { randomUUID } from "node:crypto";
import { existsSync, readFileSync, statSync } from "node:fs";
import type { Row, Source } from "../conditions/source.js";
import { ConflictError } from "../database/errors.js";
import { inOrder } from "../database/in-order.js";
import { ChainCheck, linkAfter } from "../people/audit-chain.js";
import { applied, emptyState, type KeptState, keptOf, sourceWith } from "../people/kept-state.js";
import { isAbout, type RoleStore, type StoreChange } from "../people/role-store.js";
import { Watchers } from "../people/watchers.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import { findTable } from "../schema/schema.js";
import type { StoredWrite } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import { AuditLog, allLines, type Line } from "./audit-log.js";
import { writeWhole } from "./write-whole.js";

/** How a store in a JSON file works. */
export interface JsonFileStoreOptions {
  /** The application's own records: people, and whatever rules read. */
  readonly source: Source;
}

/** Who holds what, in a file. */
export interface JsonFileStore extends RoleStore {
  /** The state as the file has it now, for `portier.session({ person, source: store.source })`. */
  readonly source: Source;
}

/** The state with the digest of the line that made it. */
interface HeldState extends KeptState {
  readonly head: string;
}

const nothingHeld: HeldState = { ...emptyState, head: "" };

/** How long a process may be silent before its hold on the file counts as left behind, in milliseconds. */
const staleAfter = 5_000;
/** How often a change is begun anew while other processes are faster. */
const mostAttempts = 10;
/** How often a file is looked at for those who watch, in milliseconds. */
const lookEvery = 250;

/**
 * Keeps who holds what in a JSON file, and the record of what was done in another beside it, `FILE.audit`, one JSON object
 * a line. The record decides: a line is written first, and counts if it is the first of its version, so that of two processes
 * that both believe they hold the lock (one of them was asleep) only one changes anything, and the other is told. A state that
 * a process left behind is caught up with from there. Several processes may use the file; changes are made one after the
 * other.
 *
 * @throws PortierError (`wrong-call`, `not-json`) for a file that is none of these, or a document that does not say
 * `people: { assignments: true }`.
 */
export function jsonFileStore<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  file: string,
  { source: own }: JsonFileStoreOptions,
): JsonFileStore {
  const { schema } = portier;
  const kept = keptOf(portier);
  const record = `${file}.audit`;
  const log = new AuditLog(record);
  const turn = inOrder();
  const writeOf = ({ table, before, after }: Line["writes"][number]): StoredWrite[] => {
    const found = findTable(schema, table);
    return found === undefined ? [] : [{ table: found, before, after }];
  };
  const replayed = (from: HeldState, lines: readonly Line[]): HeldState =>
    lines.reduce((state, line) => {
      const next = applied(state, kept, line.writes.flatMap(writeOf));
      return { ...next, version: line.version, head: line.digest };
    }, from);

  /** A record without a state: a process was killed before it wrote the first one, or somebody took the file away. */
  const withoutState = (lines: readonly Line[]): HeldState => {
    if (lines.length <= 1) return nothingHeld;
    throw portierError("wrong-call", {
      what: `${file} is not there, but ${record} is`,
      hint: "restore it from a copy",
    });
  };

  let known: { readonly mark: string; readonly state: HeldState; readonly source: Source } | undefined;
  /** The state of the file, and what the record has beyond it. */
  const current = () => {
    const mark = `${markOf(file)} ${markOf(record)}`;
    if (known?.mark !== mark) {
      const lines = log.lines();
      const held = existsSync(file) ? readState(file) : withoutState(lines);
      const last = lines.findLastIndex(({ version }) => version <= held.version);
      const state = replayed(held, lines.slice(last + 1));
      known = { mark, state, source: sourceWith(own, schema, state) };
    }
    return known;
  };
  /** Undefined while it cannot be read: the next caller is told why, and whoever watches goes on watching. */
  const versionNow = (): number | undefined => {
    try {
      return current().state.version;
    } catch {
      return undefined;
    }
  };
  /** Writes the state, unless a later one is there already: the record has what this one holds. */
  const save = async (state: HeldState) => {
    const there = existsSync(file) ? readState(file).version : -1;
    if (there < state.version) await writeWhole(file, stateText(state));
  };

  const changed = <R>(work: (inside: StoreChange) => Promise<R>): Promise<R> => {
    let { state } = current();
    return work({
      read: async (question) => question(sourceWith(own, schema, state)),
      write: async (writes, entries) => {
        const next = applied(state, kept, writes);
        const content = {
          version: next.version,
          writes: writes.map(({ table, before, after }) => ({
            table: table.name,
            ...(before === undefined ? {} : { before }),
            ...(after === undefined ? {} : { after }),
          })),
          entries,
          by: randomUUID(),
        };
        const digest = await linkAfter(state.head, JSON.stringify(content));
        await log.append({ ...content, digest });
        // Somebody else may have written the same version first: then this line says nothing, and nothing was done.
        const first = log.lines().findLast(({ version }) => version === next.version);
        if (first?.digest !== digest) throw new ConflictError(new Error(`another process changed ${file} meanwhile`));
        state = { ...next, head: digest };
        await save(state);
      },
    });
  };

  current();
  return {
    keepsPersons: false,
    get source() {
      return current().source;
    },
    read: async (question) => question(current().source),
    change: (work) =>
      turn(async () => {
        for (let attempt = 1; ; attempt++) {
          try {
            return await locked(file, () => changed(work));
          } catch (error) {
            if (!(error instanceof ConflictError) || attempt === mostAttempts) throw error;
          }
        }
      }),
    auditLog: async ({ person, limit = 100 } = {}) =>
      log
        .lines()
        .flatMap(({ entries }) => entries)
        .filter((entry) => isAbout(entry, person))
        .slice(-limit)
        .reverse(),
    verifyAuditLog: async (options) => {
      const check = new ChainCheck(options);
      let broken: "missing" | undefined;
      let last = 0;
      for (const { digest, ...content } of allLines(record)) {
        // One that came too late says nothing.
        if (content.version <= last) continue;
        if (content.version > last + 1) broken = "missing";
        if (broken !== undefined || !(await check.takes(JSON.stringify(content), digest))) break;
        last = content.version;
      }
      // What a process that was killed has left to be caught up with is not a fault of the record.
      return check.result(current().state.head, broken);
    },
    watch: async (onChange) => {
      let { version } = current().state;
      const watchers = new Watchers();
      watchers.add(onChange);
      const timer = setInterval(() => {
        const found = versionNow();
        if (found === undefined || found === version) return;
        version = found;
        watchers.tell();
      }, lookEvery);
      timer.unref();
      return async () => clearInterval(timer);
    },
  };
}

/** Runs work while no other process that is awake does. */
async function locked<R>(file: string, work: () => Promise<R>): Promise<R> {
  let isHeld = true;
  // Loaded where something is locked: it listens to the signals that end a process.
  const { default: lockfile } = await import("proper-lockfile");
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
    return await work();
  } finally {
    if (isHeld) await release().catch(() => {});
  }
}

/** Something that differs whenever the file was replaced: each state is a new file under the old name. */
function markOf(file: string): string {
  if (!existsSync(file)) return "";
  const { ino, mtimeNs, size } = statSync(file, { bigint: true });
  return `${ino} ${mtimeNs} ${size}`;
}

function stateText({ version, head, assignments, delegations, protections }: HeldState): string {
  const rows = (list: readonly Row[]) =>
    list.length === 0 ? "[]" : `[\n${list.map((row) => `    ${JSON.stringify(row)}`).join(",\n")}\n  ]`;
  const parts = [
    `"version": ${version}`,
    `"head": "${head}"`,
    `"assignments": ${rows(assignments)}`,
    `"delegations": ${rows(delegations)}`,
    ...(protections.length === 0 ? [] : [`"protections": ${rows(protections)}`]),
  ];
  return `{\n  ${parts.join(",\n  ")}\n}\n`;
}

function readState(file: string): HeldState {
  const value = parsed(readFileSync(file, "utf8"), file);
  const { version, assignments, delegations, protections = [], head = "" } = isMapping(value) ? value : {};
  const isRows = (rows: unknown): rows is Row[] => Array.isArray(rows) && rows.every(isMapping);
  const isState = isRows(assignments) && isRows(delegations) && isRows(protections);
  if (typeof version === "number" && isState && typeof head === "string") {
    for (const row of protections) Object.freeze(row);
    return { version, assignments, delegations, protections, head };
  }
  const hint = 'it holds { "version": 0, "assignments": [], "delegations": [] }';
  throw portierError("wrong-call", { what: `${file} does not hold who holds what`, hint });
}

function parsed(text: string, file: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    const why = error instanceof Error ? error.message : String(error);
    throw portierError("wrong-call", { what: `${file} is not JSON: ${why}`, hint: "restore it from a copy" });
  }
}
