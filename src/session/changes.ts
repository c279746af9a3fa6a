import type { Reading } from "../conditions/evaluate.js";
import { rawValue } from "../conditions/evaluate.js";
import type { Row } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, type Schema, singleKey, type Table } from "../schema/schema.js";
import { type Decision, judgeChange, type Reason } from "./gate.js";
import type { Plan, TablePlan } from "./plan.js";

/** Why one field, or the whole change, was not accepted. */
export interface Refusal {
  /** Absent for the act as a whole: creating or deleting. */
  readonly field?: string;
  readonly reason: Exclude<Reason, "permitted"> | "no-such-field" | "no-such-record" | "invalid" | "key-taken";
  /** For developers and logs: the address of the rule that refused. */
  readonly rule?: string;
  /** For the person: the rule's note, or a neutral sentence. Never names a hidden value. */
  readonly message: string;
}

/** What became of a proposed change. Nothing is applied here: what is refused leaves the stored values as they are. */
export type Acceptance =
  | {
      readonly accepted: true;
      /** The whole record after the change, or after creation with its defaults; undefined after delete. */
      readonly record: Row | undefined;
      /** The fields that change, with their new values; empty when nothing does. */
      readonly changes: Row;
    }
  | {
      readonly accepted: false;
      /** `not-found`: for this person there is no such record. `refused`: at least one field or the act may not be. `invalid`: it may be, but a value is not right. */
      readonly reason: "not-found" | "refused" | "invalid" | "fault";
      /** Every refused field, or every invalid one. Empty for `not-found`. */
      readonly refusals: readonly Refusal[];
    };

/** What judging a change needs from the session. */
export interface ChangeContext {
  readonly schema: Schema;
  readonly plan: Plan;
  readonly key: Scalar | null | undefined;
  readonly reading: Reading;
}

const unknownRecord: Acceptance = { accepted: false, reason: "not-found", refusals: [] };

export function acceptEdit(context: ChangeContext, plan: TablePlan, before: Row | undefined, values: Row): Acceptance {
  const { reading } = context;
  const { table } = plan;
  if (before === undefined || !plan.knows(before, reading)) return unknownRecord;
  const refusals = unknownFields(table, values);
  const changed = table.fields.filter(
    (field) => Object.hasOwn(values, field.name) && isChanged(plan, field, before, values, reading),
  );
  if (changed.length === 0 && refusals.length === 0)
    return { accepted: true, record: rowOf(table, before), changes: {} };

  const after: Record<string, unknown> = rowOf(table, before);
  for (const field of changed) after[field.name] = given(values, field);
  const later = silent(reading);
  for (const field of changed) {
    const gate = plan.edit.gates[field.index];
    const decision = gate && judgeChange(gate, before, after, reading, later);
    if (decision === undefined) continue;
    if (!decision.permitted) refusals.push(refusalOf(decision, field, "edit"));
    else refusals.push(...missingRecord(context, field, after));
  }
  if (refusals.length > 0) return { accepted: false, reason: "refused", refusals };

  const invalid = changed.flatMap((field) => invalidValue(field, after, !field.optional));
  const moved = changed.some((field) => table.key.includes(field));
  if (moved && invalid.length === 0) invalid.push(...takenKey(context, table, after));
  if (invalid.length > 0) return { accepted: false, reason: "invalid", refusals: invalid };
  return { accepted: true, record: after, changes: pick(after, changed) };
}

export function acceptCreate(context: ChangeContext, plan: TablePlan, values: Row): Acceptance {
  const { reading } = context;
  const { table } = plan;
  const refusals = unknownFields(table, values);
  const record: Record<string, unknown> = {};
  const judged: Field[] = [];
  for (const field of table.fields) {
    const mine = ownerDefault(context, table, field);
    const standard = mine ?? field.default;
    const value = Object.hasOwn(values, field.name) ? given(values, field) : standard;
    record[field.name] = value;
    // Equal to what it would be anyway: there is nothing to permit.
    if (!sameValue(field, value, standard)) judged.push(field);
  }

  const later = silent(reading);
  const act = plan.create.act.decide(record, later);
  if (!act.permitted) refusals.unshift(refusalOf(act, undefined, "create"));
  for (const field of judged) {
    const gate = plan.create.gates[field.index];
    const decision = gate?.decide(record, later);
    if (decision === undefined) continue;
    if (!decision.permitted) refusals.push(refusalOf(decision, field, "create"));
    else refusals.push(...missingRecord(context, field, record));
  }
  if (refusals.length > 0) return { accepted: false, reason: "refused", refusals };

  const invalid = table.fields.flatMap((field) => {
    const needed = !field.optional && !field.computed && !field.generated;
    return invalidValue(field, record, needed);
  });
  if (invalid.length === 0) invalid.push(...takenKey(context, table, record));
  if (invalid.length > 0) return { accepted: false, reason: "invalid", refusals: invalid };
  return { accepted: true, record, changes: { ...record } };
}

export function acceptDelete({ reading }: ChangeContext, plan: TablePlan, before: Row | undefined): Acceptance {
  if (before === undefined || !plan.knows(before, reading)) return unknownRecord;
  const decision = plan.delete.decide(before, reading);
  if (decision.permitted) return { accepted: true, record: undefined, changes: {} };
  return { accepted: false, reason: "refused", refusals: [refusalOf(decision, undefined, "delete")] };
}

/**
 * A field counts as changed when its value does, by the rules of its type. One that the person may neither list nor
 * view counts whenever it is given: the answer must not tell whether a guess was right.
 */
function isChanged(plan: TablePlan, field: Field, before: Row, values: Row, reading: Reading): boolean {
  if (!sameValue(field, rawValue(before, field.name), given(values, field))) return true;
  const isHidden = (["list", "view"] as const).every(
    (action) => !plan.decision(action, field.name)(before, reading).permitted,
  );
  return isHidden;
}

function sameValue(field: Field, a: unknown, b: unknown): boolean {
  if (a === null || b === null) return a === b;
  const canonical = field.type.canonical(a);
  return canonical !== undefined && canonical === field.type.canonical(b);
}

/** The proposed value; undefined is nothing, which for a stored field is null. */
function given(values: Row, field: Field): unknown {
  return values[field.name] ?? null;
}

/** The declared fields of a record, so that nothing undeclared travels along. Absent ones stay absent. */
function rowOf(table: Table, row: Row): Record<string, unknown> {
  const copy: Record<string, unknown> = {};
  for (const field of table.fields) {
    const value = rawValue(row, field.name);
    if (value !== undefined) copy[field.name] = value;
  }
  return copy;
}

function pick(row: Row, fields: readonly Field[]): Row {
  return Object.fromEntries(fields.map((field) => [field.name, row[field.name]]));
}

/**
 * The person who creates a record is its owner, where a field of the record itself holds the owner. (In the people
 * table the owner is the key, and a new person is not the one who enters them.)
 */
function ownerDefault({ schema, key }: ChangeContext, table: Table, field: Field): Scalar | undefined {
  const isOwner =
    table.owner?.length === 1 && table.owner[0] === field && field.type.target === schema.people?.table.name;
  return isOwner && key !== null ? key : undefined;
}

/** A reference that the person sets must lead to a record that they know of, missing and hidden ones alike. */
function missingRecord(context: ChangeContext, field: Field, after: Row): Refusal[] {
  const { schema, plan, key, reading } = context;
  const target = field.type.target === undefined ? undefined : schema.tables.get(field.type.target);
  const value = after[field.name];
  if (target === undefined || value === null) return [];
  const canonical = field.type.canonical(value);
  if (canonical === undefined) return [];
  if (target === schema.people?.table && canonical === key) return [];
  if (reading.source === undefined)
    throw portierError("needs-source", { what: `checking what "${field.name}" refers to` });
  const found = reading.source.find(target.name, String(canonical));
  if (found !== undefined && plan.of(target.name).knows(found, reading)) return [];
  return [{ field: field.name, reason: "no-such-record", message: "There is no such record." }];
}

function invalidValue(field: Field, row: Row, needed: boolean): Refusal[] {
  const value = row[field.name];
  if (value === null) {
    return needed ? [{ field: field.name, reason: "invalid", message: "A value is needed." }] : [];
  }
  if (field.type.canonical(value) !== undefined) return [];
  return [{ field: field.name, reason: "invalid", message: `This must be ${field.type.expects}.` }];
}

/** Where the source can tell. Says no more than that: the record that has the key may be a hidden one. */
function takenKey({ reading }: ChangeContext, table: Table, row: Row): Refusal[] {
  const key = singleKey(table);
  const value = key && row[key.name];
  if (key === undefined || value === null || reading.source === undefined) return [];
  const canonical = key.type.canonical(value);
  const taken = canonical !== undefined && reading.source.find(table.name, String(canonical)) !== undefined;
  return taken ? [{ field: key.name, reason: "key-taken", message: "This key cannot be used." }] : [];
}

function unknownFields(table: Table, values: Row): Refusal[] {
  return Object.keys(values)
    .filter((name) => !table.byName.has(name))
    .map((field) => ({ field, reason: "no-such-field", message: "There is no such field." }));
}

function refusalOf(decision: Decision, field: Field | undefined, action: "create" | "edit" | "delete"): Refusal {
  const reason = decision.reason === "permitted" ? "fault" : decision.reason;
  const neutral = field === undefined ? `You may not ${action} this.` : "You may not set this.";
  return {
    ...(field === undefined ? {} : { field: field.name }),
    reason,
    ...(decision.rule === undefined ? {} : { rule: decision.rule }),
    message: decision.note ?? neutral,
  };
}

/** What a person proposes may be anything; it is judged and checked, but it is no bad data of the application. */
function silent(reading: Reading): Reading {
  return { source: reading.source, badData: () => {} };
}

/** Whether a value can be a record at all. */
export function isRow(value: unknown): value is Row {
  return isMapping(value);
}
