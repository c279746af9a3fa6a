import type { Row } from "../conditions/source.js";
import type { Field } from "../schema/schema.js";
import type { ChangeContext } from "./change-context.js";
import {
  type ChangeOptions,
  type ChangeResult,
  invalid,
  type Refusal,
  type RejectedChange,
  refusalOf,
  refused,
  unconfirmed,
  unknownRecord,
} from "./change-result.js";
import type { Decision } from "./decision.js";
import { bitsOf, type Gate } from "./gate.js";
import { changedFields, pick, proposed, rowOf, sameValue, unknownFields, withValues } from "./given-values.js";
import { standardRecord } from "./new-record.js";
import type { ChangeGates, TablePlan } from "./plan.js";
import { missingRecords } from "./references.js";
import { roleRefusals } from "./role-guard.js";
import type { UserMessages } from "./user-messages.js";
import { emptied, invalidValues, takenKey } from "./valid-values.js";

/** One round of judging the fields that are left. */
interface Verdict {
  readonly refusals: readonly Refusal[];
  /** Those that ask for a confirmation. */
  readonly decisions: readonly Decision[];
}

/** Most changes have nothing to list; one empty list serves them all. */
const none: readonly never[] = Object.freeze([]);

export function editResult(
  context: ChangeContext,
  plan: TablePlan,
  before: Row | undefined,
  values: Row,
  options: ChangeOptions,
  action: "edit" | "bulk" = "edit",
): ChangeResult {
  const { reading, later } = context;
  const { table } = plan;
  if (before === undefined || !plan.knows(before, reading)) return unknownRecord;
  const unknown = unknownFields(table, values, context.messages);
  const given = changedFields(plan, before, values, reading);
  if (given.length === 0 && unknown.length === 0) {
    return { accepted: true, record: rowOf(table, before), changes: {}, dropped: [] };
  }

  const gates = plan.judging(action);
  const judge = (fields: readonly Field[], after: () => Row): Verdict => {
    const changed = bitsOf(fields);
    // Where no rule reads what changes, each says of the record what it said before.
    const ask = (gate: Gate) =>
      (gate.reads & changed) === 0 ? gate.decide(before, reading) : gate.change(before, after(), reading, later);
    const missing = missingRecords(context, plan, fields, before, after);
    const judged = judgeFields(fields, gates, ask, "edit", missing, context.messages);
    return withRoles(judged, roleRefusals(context.roles, reading.source, table, fields, before, after));
  };
  const apply = (fields: readonly Field[]) => withValues(table, before, fields, values);
  const resolved = resolveChange(given, unknown, options, apply, judge);
  if ("accepted" in resolved) return resolved;

  const { fields, after, dropped, decisions } = resolved;
  const wrong = invalidValues(context, table, fields, after, false);
  const moved = fields.some((field) => table.key.includes(field));
  if (moved && wrong.length === 0) wrong.push(...takenKey(context, table, after));
  if (wrong.length > 0) return invalid(wrong);
  const open = unconfirmed(decisions, options.confirmed ?? none);
  return open ?? { accepted: true, record: after, changes: pick(values, fields), dropped };
}

export function createResult(
  context: ChangeContext,
  plan: TablePlan,
  values: Row,
  options: ChangeOptions,
  action: "create" | "import" = "create",
): ChangeResult {
  const { table } = plan;
  const unknown = unknownFields(table, values, context.messages);
  const standard = standardRecord(context, table);
  const given = table.fields.filter((field) => {
    const isGiven = Object.hasOwn(values, field.name);
    // Equal to what it would be anyway: there is nothing to permit.
    return isGiven && !sameValue(field, standard[field.name] ?? null, proposed(values, field));
  });
  const { later } = context;
  const gates = plan.judging(action);
  const judge = (fields: readonly Field[], made: () => Row): Verdict => {
    const record = made();
    const acts = gates.acts.map((gate) => gate.decide(record, later));
    const ask = (gate: Gate) => gate.decide(record, later);
    const missing = missingRecords(context, plan, fields, undefined, made);
    const own = judgeFields(fields, gates, ask, action, missing, context.messages);
    const judged = withRoles(own, roleRefusals(context.roles, later.source, table, fields, undefined, made));
    const act = acts.find((decision) => !decision.permitted);
    return {
      refusals:
        act === undefined ? judged.refusals : [refusalOf(act, undefined, action, context.messages), ...judged.refusals],
      decisions: [...acts, ...judged.decisions],
    };
  };
  const apply = (fields: readonly Field[]): Record<string, unknown> => {
    const record = { ...standard };
    for (const field of fields) record[field.name] = proposed(values, field);
    return record;
  };
  const resolved = resolveChange(given, unknown, options, apply, judge);
  if ("accepted" in resolved) return resolved;

  const { after: record, dropped, decisions } = resolved;
  const wrong = [...invalidValues(context, table, table.fields, record, true), ...emptied(context, table, values)];
  if (wrong.length === 0) wrong.push(...takenKey(context, table, record));
  if (wrong.length > 0) return invalid(wrong);
  const open = unconfirmed(decisions, options.confirmed ?? none);
  return open ?? { accepted: true, record, changes: { ...record }, dropped };
}

/** Deleting, and custom actions: an act on a record as it is stored. */
export function actionResult(
  { reading, roles, messages }: ChangeContext,
  plan: TablePlan,
  action: string,
  before: Row | undefined,
  options: ChangeOptions,
): ChangeResult {
  if (before === undefined || !plan.knows(before, reading)) return unknownRecord;
  const decisions = plan.judging(action).acts.map((gate) => gate.decide(before, reading));
  const denial = decisions.find((decision) => !decision.permitted);
  if (denial !== undefined) return refused([refusalOf(denial, undefined, action, messages)]);
  const gone =
    action === "delete" ? roleRefusals(roles, reading.source, plan.table, none, before, () => undefined) : none;
  if (gone.length > 0) return refused(gone);
  const record = action === "delete" ? undefined : rowOf(plan.table, before);
  const open = unconfirmed(decisions, options.confirmed ?? none);
  return open ?? { accepted: true, record, changes: {}, dropped: [] };
}

interface ResolvedChange {
  readonly fields: readonly Field[];
  readonly after: Record<string, unknown>;
  readonly dropped: readonly Refusal[];
  readonly decisions: readonly Decision[];
}

/**
 * Strict: one round, and any refusal refuses all. Lenient: refused fields are dropped, and as that changes the record
 * afterwards, the rest is judged again until nothing more is dropped; what was dropped once stays dropped.
 */
function resolveChange(
  given: readonly Field[],
  unknown: readonly Refusal[],
  { mode = "strict" }: ChangeOptions,
  apply: (fields: readonly Field[]) => Record<string, unknown>,
  judge: (fields: readonly Field[], after: () => Row) => Verdict,
): ResolvedChange | RejectedChange {
  if (mode === "strict") {
    const after = once(() => apply(given));
    const { refusals, decisions } = judge(given, after);
    if (unknown.length > 0) return refused([...unknown, ...refusals]);
    if (refusals.length > 0) return refused(refusals);
    return { fields: given, after: after(), dropped: none, decisions };
  }
  let fields = given;
  const dropped: Refusal[] = [...unknown];
  for (;;) {
    const changed = fields;
    const after = once(() => apply(changed));
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
    if (refusals.length === 0) return { fields, after: after(), dropped, decisions };
  }
}

/** The record after a change is made when it is first looked at: many a change is refused without. */
function once(make: () => Record<string, unknown>): () => Record<string, unknown> {
  let made: Record<string, unknown> | undefined;
  return () => {
    made ??= make();
    return made;
  };
}

/** Besides the rules for the record, what stands against a change of who holds what; each field is refused once. */
function withRoles(verdict: Verdict, more: readonly Refusal[]): Verdict {
  if (more.length === 0) return verdict;
  const { refusals, decisions } = verdict;
  const named = new Set(refusals.map(({ field }) => field));
  return { refusals: [...refusals, ...more.filter(({ field }) => !named.has(field))], decisions };
}

/** What the gates and the records referred to say of each field. */
function judgeFields(
  fields: readonly Field[],
  { fields: gates }: ChangeGates,
  ask: (gate: Gate) => Decision,
  action: string,
  missing: ReadonlyMap<Field, Refusal>,
  messages: UserMessages,
): Verdict {
  const refusals: Refusal[] = [];
  const decisions: Decision[] = [];
  for (const field of fields) {
    const lost = missing.size === 0 ? undefined : missing.get(field);
    let denial: Decision | undefined;
    for (const gate of gates[field.index] as readonly Gate[]) {
      const decision = ask(gate);
      if (!decision.permitted) denial ??= decision;
      else if (decision.confirm !== undefined) decisions.push(decision);
    }
    const refusal = denial === undefined ? lost : refusalOf(denial, field, action, messages);
    if (refusal !== undefined) refusals.push(refusal);
  }
  return { refusals, decisions };
}
