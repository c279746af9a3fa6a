import type { Reading } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import type { Truth } from "../conditions/truth.js";
import { PortierError, portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import type { Scalar } from "../schema/scalar.js";
import type { Diagnostic } from "./session-options.js";

/**
 * A source whose answers are looked at: an object that is not a record, such as a promise, would pass for one that anybody
 * with an unconditional permit knows of.
 */
function checkedSource(source: Source): Source {
  const isRecord = (row: unknown) => isMapping(row) && typeof row["then"] !== "function";
  const records = (table: string, rows: Iterable<Row> | undefined): Iterable<Row> => {
    if (typeof rows === "object" && rows !== null && Symbol.iterator in rows) return rows;
    throw portierError("bad-source", { table, expected: "records, one after the other", found: rows });
  };
  return {
    find: (table, key) => {
      const row = source.find(table, key);
      if (row === undefined || isRecord(row)) return row;
      throw portierError("bad-source", { table, expected: "a record, or undefined for none", found: row });
    },
    ...(source.referring && {
      referring: (table, field, key) => records(table, source.referring?.(table, field, key)),
    }),
    ...(source.holding && {
      holding: (table, path, value) => {
        const rows = source.holding?.(table, path, value);
        return rows && records(table, rows);
      },
    }),
    ...(source.all && { all: (table) => records(table, source.all?.(table)) }),
  };
}

/**
 * Told of findings where nobody else is: says the first on the console. A value that is hidden because a driver handed it
 * out in a form that nobody can read would be looked for in the rules.
 */
export function firstOnConsole(): (diagnostic: Diagnostic) => void {
  let isSaid = false;
  return ({ kind, message }) => {
    if (isSaid) return;
    isSaid = true;
    const { console } = globalThis as { readonly console?: { warn(text: string): void } };
    const what = kind === "fault" ? "a question was denied because answering it failed" : "bad data";
    console?.warn(
      `Portier, ${what}: ${message.replace(/[.]$/, "")}. Further diagnostics of this session are not printed: pass "onDiagnostic" to receive all of them.`,
    );
  };
}

/** For sessions that are opened only to look at who holds what: whoever asked has a session that tells of it. */
export const toNobody = (): void => {};

/** What a value is, not which: a finding may be written down where the value may not. */
function kindOf(value: unknown): string {
  if (value === null) return "null";
  if (Array.isArray(value)) return "a list";
  if (typeof value === "object") return `an object (${value.constructor?.name ?? "without a class"})`;
  return typeof value === "string" ? "a text" : `a ${typeof value}`;
}

/** How a session reads records. */
export interface SessionReading extends Reading {
  values: readonly (Scalar | undefined)[] | undefined;
  /** Whether any bad data was reported. */
  isTold: boolean;
}

const checked = new WeakMap<Source, Source>();

/** Through its source, and with bad data reported. */
export function makeReading(given: Source | undefined, onDiagnostic: (diagnostic: Diagnostic) => void): SessionReading {
  const source = given && (checked.get(given) ?? checkedSource(given));
  if (given !== undefined && source !== undefined) checked.set(given, source);
  const reading: SessionReading = {
    source,
    values: undefined,
    decided: new DecidedTests(),
    isTold: false,
    badData(field, row) {
      reading.isTold = true;
      const value = row[field.name];
      const state = value === undefined ? "is not there" : `is ${kindOf(value)}, not ${field.type.expects}`;
      const message = `"${field.name}" of a record of "${field.table}" ${state}; it counts as unknown and is not shown`;
      onDiagnostic({ kind: "bad-data", message, table: field.table, field: field.name });
    },
    fault(error) {
      const message = error instanceof PortierError ? error.message : `a source failed: ${String(error)}`;
      onDiagnostic({ kind: "fault", message, error });
    },
  };
  return reading;
}

/** Most sessions decide no such test. */
class DecidedTests {
  #kept: Map<object, Truth> | undefined;
  #ofPersons: Map<string, Map<Scalar, Truth>> | undefined;

  get(test: object): Truth | undefined {
    return this.#kept?.get(test);
  }

  set(test: object, truth: Truth): void {
    this.#kept ??= new Map();
    this.#kept.set(test, truth);
  }

  ofPersons(test: string): Map<Scalar, Truth> {
    this.#ofPersons ??= new Map();
    const known = this.#ofPersons.get(test);
    if (known !== undefined) return known;
    const made = new Map<Scalar, Truth>();
    this.#ofPersons.set(test, made);
    return made;
  }
}
