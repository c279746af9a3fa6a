import type { Row } from "../../conditions/source.js";
import { explain } from "../../explain/explain.js";
import { explanationText } from "../../explain/text.js";
import type { ActionName } from "../../rules/actions.js";
import { recordAddress } from "../../schema/address.js";
import type { Path } from "../../schema/problems.js";
import type { Field, Table } from "../../schema/schema.js";
import type { ChangeResult } from "../../session/change-result.js";
import type { Portier } from "../../session/portier.js";
import type { Session } from "../../session/session.js";
import { PermittedSets } from "../permitted-sets.js";
import { sizeOf } from "../record-sets.js";
import { type ExpectationData, openExpected, recordsOf } from "./asked.js";
import type { Check, Expectation, ExpectedViewer } from "./expectation.js";

/** One thing that was expected, and what was found. */
export interface ExpectationResult {
  /** Where in its file it stands. */
  readonly path: Path;
  readonly name: string | undefined;
  /** `s-003: view objects/BM-SH-0001 insured_value`. */
  readonly what: string;
  /** The address of the record that it is about; undefined for the table as a whole. */
  readonly record: string | undefined;
  readonly passed: boolean;
  /** In words, as it was written down. */
  readonly expected: string;
  /** In words, what the rules say. */
  readonly found: string;
  /** Why, for what did not pass and is an answer about a record. */
  readonly why: string | undefined;
}

/** Compares what was expected with what the rules come to: a result for each check, on each record that it is about. */
export function runExpectations(
  portier: Portier,
  expectations: readonly Expectation[],
  data: ExpectationData,
): ExpectationResult[] {
  const shared = new Shared(portier, data);
  return expectations.flatMap((expectation) => new Run(expectation, shared).results());
}

/** What expectations have in common: each person's session, and the sets that counts are taken from. */
class Shared {
  readonly data: ExpectationData;
  readonly #portier: Portier;
  readonly #sessions = new Map<string, Session>();
  readonly #sets = new Map<string, PermittedSets>();

  constructor(portier: Portier, data: ExpectationData) {
    this.#portier = portier;
    this.data = data;
  }

  sessionOf({ as, at }: Expectation): Session {
    const key = JSON.stringify([as, at]);
    const session = this.#sessions.get(key) ?? openExpected(this.#portier, { as, at }, this.data);
    this.#sessions.set(key, session);
    return session;
  }

  setsOf(table: string): PermittedSets {
    const sets = this.#sets.get(table) ?? new PermittedSets(table, [...this.data.records(table)]);
    this.#sets.set(table, sets);
    return sets;
  }
}

class Run {
  readonly #expectation: Expectation;
  readonly #shared: Shared;
  readonly #session: Session;
  readonly #who: string;
  readonly #table: Table;

  constructor(expectation: Expectation, shared: Shared) {
    this.#expectation = expectation;
    this.#shared = shared;
    this.#session = shared.sessionOf(expectation);
    this.#who = whoText(expectation.as);
    this.#table = expectation.on.table;
  }

  results(): ExpectationResult[] {
    const records = recordsOf(this.#expectation, this.#session, this.#shared.data);
    if (records === undefined) {
      const { on, path } = this.#expectation;
      const missing = on.kind === "key" ? `no record "${on.key}"` : "no record that meets the condition";
      return [this.#result(path, `on ${this.#table.name}`, "a record", missing)];
    }
    return this.#expectation.checks.flatMap((check) => this.#check(check, records));
  }

  #check(check: Check, records: readonly Row[]): ExpectationResult[] {
    switch (check.kind) {
      case "may":
      case "mayNot":
        return check.fields.flatMap((field) => this.#asked(check, field, records));
      case "exactly":
        return this.#exactly(check.action, check.fields, check.path, records);
      case "count":
        return [this.#count(check.action, check.count, check.path)];
      case "change":
        return this.#changed(check, records);
      default:
        return check satisfies never;
    }
  }

  #asked(
    { kind, action, path }: Extract<Check, { kind: "may" | "mayNot" }>,
    field: Field | undefined,
    records: readonly Row[],
  ): ExpectationResult[] {
    const isExpected = kind === "may";
    const asked = (row: Row | undefined) => {
      if (row === undefined) return this.#session.reach(action, this.#table.name, field?.name) !== "none";
      return this.#session.may(action, this.#table.name, row, field?.name);
    };
    return this.#each(records).map((row) => {
      const what = `${action} ${this.#name(row)}${field === undefined ? "" : ` ${field.name}`}`;
      const found = asked(row);
      const why = found === isExpected ? undefined : this.#why(action, row, field);
      return this.#result(path, what, answer(isExpected), answer(found), why, row);
    });
  }

  #exactly(action: ActionName, fields: readonly Field[], path: Path, records: readonly Row[]): ExpectationResult[] {
    const named = (list: readonly Field[]) => list.map(({ name }) => name).join(", ") || "nothing";
    return this.#each(records).map((row) => {
      const found = this.#table.fields.filter((field) =>
        row === undefined
          ? this.#session.reach(action, this.#table.name, field.name) !== "none"
          : this.#session.may(action, this.#table.name, row, field.name),
      );
      const wrong = this.#table.fields.find((field) => fields.includes(field) !== found.includes(field));
      const expected = this.#table.fields.filter((field) => fields.includes(field));
      const why = wrong === undefined ? undefined : this.#why(action, row, wrong);
      return this.#result(path, `${action} ${this.#name(row)} exactly`, named(expected), named(found), why, row);
    });
  }

  #count(action: ActionName, count: number, path: Path): ExpectationResult {
    const found = sizeOf(this.#shared.setsOf(this.#table.name).permitted(this.#session, action));
    return this.#result(path, `${action} ${this.#table.name}, counted`, String(count), String(found));
  }

  #changed(check: Extract<Check, { kind: "change" }>, records: readonly Row[]): ExpectationResult[] {
    const { action, values, path } = check;
    const rows = action === "create" ? [undefined] : this.#each(records);
    return rows.map((row) => {
      const outcome = this.#attempt(action, row, values);
      const what = `${action} ${this.#name(row)}${Object.keys(values).length === 0 ? "" : ` ${JSON.stringify(values)}`}`;
      return this.#result(path, what, expectedOutcome(check), foundOutcome(outcome, check), undefined, row);
    });
  }

  #attempt(action: ActionName, row: Row | undefined, values: Row): ChangeResult {
    const table = this.#table.name;
    if (action === "create") return this.#session.checkCreate(table, values);
    if (action === "edit") return this.#session.checkEdit(table, row, values);
    if (action === "delete") return this.#session.checkDelete(table, row);
    return this.#session.checkAction(action, table, row);
  }

  /** The records, or the table as a whole. */
  #each(records: readonly Row[]): readonly (Row | undefined)[] {
    return this.#expectation.on.kind === "table" ? [undefined] : records;
  }

  #name(row: Row | undefined): string {
    const address = row === undefined ? undefined : recordAddress(this.#table, row);
    return address === undefined ? this.#table.name : `${this.#table.name}/${address}`;
  }

  #why(action: ActionName, record: Row | undefined, field: Field | undefined): string {
    const explanation = explain(this.#session, { action, table: this.#table.name, record, field: field?.name });
    return explanationText(explanation, this.#who, this.#name(record));
  }

  #result(path: Path, what: string, expected: string, found: string, why?: string, row?: Row): ExpectationResult {
    const { name } = this.#expectation;
    const record = row === undefined ? undefined : recordAddress(this.#table, row);
    return { path, name, record, what: `${this.#who}: ${what}`, passed: expected === found, expected, found, why };
  }
}

function whoText(as: ExpectedViewer): string {
  if (as.kind === "person") return as.key;
  if (as.kind === "visitor") return "a visitor";
  return as.kind === "member" ? as.name : "a made-up person";
}

function answer(isPermitted: boolean): string {
  return isPermitted ? "yes" : "no";
}

function expectedOutcome({ outcome, by, becomes }: Extract<Check, { kind: "change" }>): string {
  return [
    outcome,
    ...(by === undefined ? [] : [`by ${by}`]),
    ...(becomes === undefined ? [] : [JSON.stringify(becomes)]),
  ].join(" ");
}

/** What became of a change, as far as the expectation speaks of it; more where it came out otherwise. */
function foundOutcome(found: ChangeResult, { outcome, by, becomes }: Extract<Check, { kind: "change" }>): string {
  const reason = found.accepted ? "accepted" : found.reason;
  const rules = found.accepted
    ? []
    : [...found.refusals.flatMap(({ rule }) => rule ?? []), ...(found.confirm ?? []).map(({ rule }) => rule)];
  const isBy = by !== undefined && rules.includes(by);
  const ruled = isBy ? [`by ${by}`] : by !== undefined || reason !== outcome ? rules.map((rule) => `by ${rule}`) : [];
  const fields =
    found.accepted || reason === outcome
      ? []
      : found.refusals.flatMap(({ field }) => (field === undefined ? [] : [`(${field})`]));
  const after = found.accepted && becomes !== undefined ? [afterText(found.record ?? {}, becomes)] : [];
  return [reason, ...new Set(ruled), ...fields, ...after].join(" ");
}

function afterText(record: Row, becomes: Row): string {
  return JSON.stringify(Object.fromEntries(Object.keys(becomes).map((name) => [name, record[name] ?? null])));
}
