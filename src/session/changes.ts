import { fieldValue, type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { layersOf } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import { isMapping } from "../schema/reader.js";
import { isStorable, type Scalar } from "../schema/scalar.js";
import { type Field, isOwn, type Table } from "../schema/schema.js";
import { copyJson } from "../schema/types/json.js";
import { storedValue } from "../schema/types/stored-form.js";
import {
  type Acceptance,
  type ChangeOptions,
  invalid,
  keyTakenMessage,
  type NotAccepted,
  type Refusal,
  refusalOf,
  refused,
  unconfirmed,
  unknownRecord,
} from "./acceptance.js";
import type { Decision } from "./decision.js";
import type { Gate } from "./gate.js";
import { lookupValue } from "./lookups.js";
import type { Plan, TablePlan } from "./plan.js";
import { missingRecords } from "./references.js";
import { type RoleGuard, roleRefusals } from "./role-guard.js";
import type { FieldGates } from "./table-gates.js";

/** What judging a change needs from the session. */
export interface ChangeContext {
  /** The name of the people table. */
  readonly people: string | undefined;
  readonly plan: Plan;
  /** The key of the one who asks; null for a visitor, undefined for a made-up holder of roles. */
  readonly key: Scalar | null | undefined;
  readonly reading: Reading;
  /** Judges changes of records that roles come from; undefined where none do. */
  readonly roles: RoleGuard | undefined;
  /** Reads what is proposed: that may be anything, it is judged and checked, but it is no bad data of the application. */
  readonly later: Reading;
}

/** One round of judging the fields that are left. */
interface Verdict {
  readonly refusals: readonly Refusal[];
  /** Those that ask for a confirmation. */
  readonly decisions: readonly Decision[];
}

/** Most changes have nothing to list; one empty list serves them all. */
const none: readonly never[] = Object.freeze([]);

export function acceptEdit(
  context: ChangeContext,
  plan: TablePlan,
  before: Row | undefined,
  values: Row,
  options: ChangeOptions,
  action: "edit" | "bulk" = "edit",
): Acceptance {
  const { reading, later } = context;
  const { table } = plan;
  if (before === undefined || !plan.knows(before, reading)) return unknownRecord;
  const unknown = unknownFields(table, values);
  const given = changedFields(plan, before, values, reading);
  if (given.length === 0 && unknown.length === 0) {
    return { accepted: true, record: rowOf(table, before), changes: {}, dropped: [] };
  }

  const sets = layersOf(action).map((layer) => plan.fields(layer));
  const judge = (fields: readonly Field[], after: Row): Verdict => {
    const ask = (gate: Gate) => gate.change(before, after, reading, later);
    const judged = verdict(fields, sets, ask, "edit", missingRecords(context, plan, fields, before, after));
    return withRoles(judged, roleRefusals(context.roles, reading.source, table, fields, before, after));
  };
  const apply = (fields: readonly Field[]): Record<string, unknown> => {
    const after = rowOf(table, before);
    for (const field of fields) after[field.name] = proposed(values, field);
    return after;
  };
  const settled = settle(given, unknown, options, apply, judge);
  if ("accepted" in settled) return settled;

  const { fields, after, dropped, decisions } = settled;
  const wrong = invalidValues(table, fields, after, false);
  const moved = fields.some((field) => table.key.includes(field));
  if (moved && wrong.length === 0) wrong.push(...takenKey(context, table, after));
  if (wrong.length > 0) return invalid(wrong);
  const open = unconfirmed(decisions, options.confirmed ?? none);
  return open ?? { accepted: true, record: after, changes: pick(after, fields), dropped };
}

export function acceptCreate(
  context: ChangeContext,
  plan: TablePlan,
  values: Row,
  options: ChangeOptions,
  action: "create" | "import" = "create",
): Acceptance {
  const { table } = plan;
  const unknown = unknownFields(table, values);
  const standard = standardRecord(context, table);
  const given = table.fields.filter((field) => {
    const isGiven = Object.hasOwn(values, field.name);
    // Equal to what it would be anyway: there is nothing to permit.
    return isGiven && !sameValue(field, proposed(values, field), standard[field.name] ?? null);
  });
  const { later } = context;
  const layers = layersOf(action);
  const sets = layers.map((layer) => plan.fields(layer));
  const judge = (fields: readonly Field[], record: Row): Verdict => {
    const acts = layers.map((layer) => plan.act(layer).decide(record, later));
    const ask = (gate: Gate) => gate.decide(record, later);
    const own = verdict(fields, sets, ask, action, missingRecords(context, plan, fields, undefined, record));
    const judged = withRoles(own, roleRefusals(context.roles, later.source, table, fields, undefined, record));
    const act = acts.find((decision) => !decision.permitted);
    return {
      refusals: act === undefined ? judged.refusals : [refusalOf(act, undefined, action), ...judged.refusals],
      decisions: [...acts, ...judged.decisions],
    };
  };
  const apply = (fields: readonly Field[]): Record<string, unknown> => {
    const record = { ...standard };
    for (const field of fields) record[field.name] = proposed(values, field);
    return record;
  };
  const settled = settle(given, unknown, options, apply, judge);
  if ("accepted" in settled) return settled;

  const { after: record, dropped, decisions } = settled;
  const wrong = [...invalidValues(table, table.fields, record, true), ...emptied(table, values)];
  if (wrong.length === 0) wrong.push(...takenKey(context, table, record));
  if (wrong.length > 0) return invalid(wrong);
  const open = unconfirmed(decisions, options.confirmed ?? none);
  return open ?? { accepted: true, record, changes: { ...record }, dropped };
}

/** Deleting, and custom actions: an act on a record as it is stored. */
export function acceptAct(
  { reading, roles }: ChangeContext,
  plan: TablePlan,
  action: string,
  before: Row | undefined,
  options: ChangeOptions,
): Acceptance {
  if (before === undefined || !plan.knows(before, reading)) return unknownRecord;
  const decision = plan.act(action).decide(before, reading);
  if (!decision.permitted) return refused([refusalOf(decision, undefined, action)]);
  const gone = action === "delete" ? roleRefusals(roles, reading.source, plan.table, none, before, undefined) : none;
  if (gone.length > 0) return refused(gone);
  const record = action === "delete" ? undefined : rowOf(plan.table, before);
  const open = unconfirmed([decision], options.confirmed ?? none);
  return open ?? { accepted: true, record, changes: {}, dropped: [] };
}

interface Settled {
  readonly fields: readonly Field[];
  readonly after: Record<string, unknown>;
  readonly dropped: readonly Refusal[];
  readonly decisions: readonly Decision[];
}

/**
 * Strict: one round, and any refusal refuses all. Lenient: refused fields are dropped, and as that changes the record
 * afterwards, the rest is judged again until nothing more is dropped; what was dropped once stays dropped.
 */
function settle(
  given: readonly Field[],
  unknown: readonly Refusal[],
  { mode = "strict" }: ChangeOptions,
  apply: (fields: readonly Field[]) => Record<string, unknown>,
  judge: (fields: readonly Field[], after: Row) => Verdict,
): Settled | NotAccepted {
  if (mode === "strict") {
    const after = apply(given);
    const { refusals, decisions } = judge(given, after);
    if (unknown.length > 0 || refusals.length > 0) return refused([...unknown, ...refusals]);
    return { fields: given, after, dropped: none, decisions };
  }
  let fields = given;
  const dropped: Refusal[] = [...unknown];
  for (;;) {
    const after = apply(fields);
    const { refusals, decisions } = judge(fields, after);
    const ofFields = refusals.filter(({ field }) => field !== undefined);
    if (ofFields.length > 0) {
      dropped.push(...ofFields);
      const names = new Set(ofFields.map(({ field }) => field));
      fields = fields.filter(({ name }) => !names.has(name));
    }
    if (dropped.length > 0 && fields.length === 0) return refused(dropped);
    // The act is judged on the record that would be stored, once nothing more is dropped of it.
    if (ofFields.length === 0 && refusals.length > 0) return refused([...dropped, ...refusals]);
    if (refusals.length === 0) return { fields, after, dropped, decisions };
  }
}

/** Besides the rules for the record, what stands against a change of who holds what; each field is refused once. */
function withRoles({ refusals, decisions }: Verdict, more: readonly Refusal[]): Verdict {
  if (more.length === 0) return { refusals, decisions };
  const named = new Set(refusals.map(({ field }) => field));
  return { refusals: [...refusals, ...more.filter(({ field }) => !named.has(field))], decisions };
}

/** What the gates and the records referred to say of each field. */
function verdict(
  fields: readonly Field[],
  sets: readonly FieldGates[],
  ask: (gate: Gate) => Decision,
  action: string,
  missing: ReadonlyMap<Field, Refusal>,
): Verdict {
  let refusals: Refusal[] | undefined;
  let decisions: Decision[] | undefined;
  for (const field of fields) {
    const lost = missing.size === 0 ? undefined : missing.get(field);
    let denial: Decision | undefined;
    for (const { gates } of sets) {
      const decision = ask(gates[field.index] as Gate);
      if (!decision.permitted) denial ??= decision;
      else if (decision.confirm !== undefined) decisions = [...(decisions ?? none), decision];
    }
    const refusal = denial === undefined ? lost : refusalOf(denial, field, action);
    if (refusal !== undefined) refusals = [...(refusals ?? none), refusal];
  }
  return { refusals: refusals ?? none, decisions: decisions ?? none };
}

/**
 * A field counts as changed when its value does, by the rules of its type. One that the person may neither list nor
 * view counts whenever it is given: the answer must not tell whether a guess was right.
 */
function changedFields(plan: TablePlan, before: Row, values: Row, reading: Reading): readonly Field[] {
  const { table } = plan;
  const changed: Field[] = [];
  for (const name of Object.keys(values)) {
    const field = table.byName.get(name);
    if (field === undefined) continue;
    const stored = field.lookup === undefined ? fieldValue(before, field) : lookupValue(plan, field, before, reading);
    if (!sameValue(field, stored, proposed(values, field)) || isHidden(plan, field, before, reading))
      changed.push(field);
  }
  return changed.length > 1 ? changed.sort((a, b) => a.index - b.index) : changed;
}

/** Whether the person may neither list nor view a field of a record. */
export function isHidden(plan: TablePlan, field: Field, row: Row, reading: Reading): boolean {
  return (["list", "view"] as const).every((action) => !plan.decision(action, field.name)(row, reading).permitted);
}

function sameValue(field: Field, a: unknown, b: unknown): boolean {
  if (a === null || b === null) return a === b;
  const canonical = storedValue(field.type, a);
  return canonical !== undefined && canonical === field.type.canonical(b);
}

/** The proposed value; undefined is nothing, which for a stored field is null. */
function proposed(values: Row, field: Field): unknown {
  return values[field.name] ?? null;
}

/**
 * A copy of a record to put new values into. A plain object is copied as it is; of any other the declared fields are
 * read, as getters would be lost.
 */
function rowOf(table: Table, row: Row): Record<string, unknown> {
  const prototype = Object.getPrototypeOf(row);
  if (prototype === Object.prototype || prototype === null) return { ...row };
  const copy: Record<string, unknown> = {};
  for (const field of table.fields) {
    const value = rawValue(row, field.name);
    if (value !== undefined) copy[field.name] = value;
  }
  return copy;
}

function pick(row: Row, fields: readonly Field[]): Row {
  const picked: Record<string, unknown> = {};
  for (const { name } of fields) picked[name] = row[name];
  return picked;
}

/** A new record of which nothing is given: defaults, nulls, and the person as its owner. */
export function standardRecord(context: ChangeContext, table: Table): Record<string, unknown> {
  const record: Record<string, unknown> = {};
  for (const field of table.fields) {
    if (isOwn(field)) {
      // A list or an opaque value is copied: whoever is given the record may change it.
      record[field.name] = ownerDefault(context, table, field) ?? copyJson(field.default);
    }
  }
  return record;
}

/**
 * The person who creates a record is its owner, where a field of the record itself holds the owner or owners. (In the
 * people table the owner is the key, and a new person is not the one who enters them.)
 */
function ownerDefault({ people, key }: ChangeContext, table: Table, field: Field): unknown {
  if (table.owner?.length !== 1 || table.owner[0] !== field || people === undefined || key == null) return undefined;
  if (field.type.target === people) return key;
  return field.type.element?.target === people ? [key] : undefined;
}

/** A key is always needed; another field unless it is optional. What is made by itself or by the database is not. */
function isNeeded(table: Table, field: Field): boolean {
  if (field.computed || field.generated) return false;
  return !field.optional || table.key.includes(field);
}

function invalidValues(table: Table, fields: readonly Field[], row: Row, isNew: boolean): Refusal[] {
  const wrong: Refusal[] = [];
  for (const field of fields) {
    const value = row[field.name] ?? null;
    // A new record may leave to the database what it fills; a change that empties it may not.
    const isEmptied = !isNew && field.generated && !field.optional;
    const isRight = value === null ? !isNeeded(table, field) && !isEmptied : field.type.fits(value);
    if (isRight && isStorable(value)) continue;
    const message = isRight ? unstorable : value === null ? valueNeeded : `This must be ${field.type.expects}.`;
    wrong.push({ field: field.name, reason: "invalid", message });
  }
  return wrong;
}

/** What the database fills when it is not given: null is given, and no value of it. */
function emptied(table: Table, values: Row): Refusal[] {
  return table.fields
    .filter(({ name, generated, optional }) => generated && !optional && values[name] === null)
    .map(({ name }) => ({ field: name, reason: "invalid" as const, message: valueNeeded }));
}

const valueNeeded = "A value is needed.";
const unstorable = "This holds a character that cannot be stored: a nul, or half of a surrogate pair.";

/** Where the source can tell. */
function takenKey({ reading }: ChangeContext, table: Table, row: Row): Refusal[] {
  const address = recordAddress(table, row);
  const [first] = table.key;
  if (address === undefined || first === undefined || reading.source === undefined) return [];
  const taken = reading.source.find(table.name, address) !== undefined;
  return taken ? [{ field: first.name, reason: "key-taken", message: keyTakenMessage }] : [];
}

function unknownFields(table: Table, values: Row): readonly Refusal[] {
  let unknown: Refusal[] | undefined;
  for (const name of Object.keys(values)) {
    if (table.byName.has(name)) continue;
    unknown = [...(unknown ?? none), { field: name, reason: "no-such-field", message: "There is no such field." }];
  }
  return unknown ?? none;
}

/** Whether a value can be a record at all. */
export function isRow(value: unknown): value is Row {
  return isMapping(value);
}
