import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf, actionOf } from "../rules/actions.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import type { Field, Table } from "../schema/schema.js";
import { attemptNew } from "./attempt.js";
import { choicesOf } from "./choices.js";
import { type Confirmation, type Decision, faulted } from "./decision.js";
import { internals } from "./internals.js";
import { standardRecord } from "./new-record.js";
import type { OpenSession } from "./open-session.js";
import type { TablePlan } from "./plan.js";
import { isRow, wrongRecord } from "./row.js";
import type { SessionState } from "./session-state.js";
import type { MaskedRow } from "./shown-fields.js";
import { mask } from "./shows.js";

/** How a field stands in a form. */
export type FieldState = "hidden" | "read-only" | "editable" | "confirm";

/** A field of a form. */
export interface FormField {
  readonly name: string;
  /** What the person reads instead of the name: the field's `label:`. */
  readonly label: string;
  /** What its values are: `text`, `integer`, `decimal`, `boolean`, `date`, `timestamp`, `json`, `choice`, `reference`, `list`. */
  readonly type: string;
  /** `confirm`: may be edited, once what is in `confirm` is confirmed. */
  readonly state: FieldState;
  /** The stored value, or of a new record the default; absent where the field is hidden. */
  readonly value?: unknown;
  /** A hidden field that may all the same be set. */
  readonly blind?: true;
  /** The new values may still refuse it. */
  readonly tentative?: true;
  /** It could not be decided here, and so counts as locked: a rule reads records that only the server has. */
  readonly undecided?: true;
  /** It may not be left empty: neither optional, nor computed, nor filled by the database. */
  readonly required: boolean;
  /** What the rule that keeps the field from being set protects and why. */
  readonly note?: string;
  readonly confirm?: readonly Confirmation[];
  /** The values that may be chosen, for a field that may be set; keys for a reference. */
  readonly choices?: readonly (string | number | boolean)[];
}

/** What may be done with the record as a whole. */
export interface FormAction {
  readonly name: string;
  /** As far as it can be told before it is tried. */
  readonly permitted: boolean;
  /** It could not be decided here, and so counts as refused. */
  readonly undecided?: true;
  readonly note?: string;
  readonly confirm?: readonly Confirmation[];
}

/** What a page needs to show and change one record, or to make one. Plain JSON. */
export interface Form {
  readonly table: string;
  /** What the person reads instead of the table's name: its `label:`. */
  readonly label: string;
  /** Whether it makes a record, and does not change a stored one. */
  readonly isNew: boolean;
  /** All fields of the table in declared order, hidden ones among them. */
  readonly fields: readonly FormField[];
  /** What may be done with the record; for a new one whether it may be made. */
  readonly actions: readonly FormAction[];
}

/** {@link Session.form} as a function. */
export function form<T extends DocumentTypes = AnyDocument>(
  session: OpenSession<T>,
  table: TableOf<T>,
  record?: object,
): Form | undefined {
  const state = internals(session);
  const { reading, parts } = state;
  const plan = state.plan.of(table);
  if (record === undefined) {
    const attempt = (field?: Field) =>
      state.guard(() => attemptNew(parts.decided().of(table), "create", field), faulted);
    const standard = standardRecord(state.changing, plan.table);
    return newForm(plan.table, standard, attempt, (asked) => choicesIn(state, plan, asked, undefined));
  }
  if (!isRow(record)) throw wrongRecord("form", record);
  const seen = { ...mask(session, table, record, "list"), ...mask(session, table, record, "view") };
  if (!state.guard(() => plan.knows(record, reading), false)) return undefined;
  const decide = (action: ActionName, asked: Field | undefined) =>
    state.guard(() => plan.decision(action, asked?.name)(record, reading), faulted);
  return formOf(plan, seen, decide, (asked) => choicesIn(state, plan, asked, record));
}

/** The choices as a form has them: where there is no source at all, a list of records is for the server to give. */
function choicesIn(state: SessionState, plan: TablePlan, field: Field, record: Row | undefined): ReturnType<Choices> {
  const leads = (field.type.target ?? field.type.element?.target) !== undefined;
  if (leads && state.reading.source === undefined) return undefined;
  return state.guard(() => choicesOf(state.changing, plan, field, record), undefined);
}

type Choices = (field: Field) => readonly (string | number | boolean)[] | undefined;

/**
 * The form of a stored record that the person knows of. `seen` is what they see of it; each field and action is decided by
 * itself, so that one that cannot be decided takes nothing else along.
 */
function formOf(
  { table }: TablePlan,
  seen: MaskedRow,
  decide: (action: ActionName, field: Field | undefined) => Decision,
  choices: Choices,
): Form {
  const fields = table.fields.map((field) => {
    const isSeen = Object.hasOwn(seen, field.name);
    return formField(field, decide("edit", field), isSeen, seen[field.name], choices);
  });
  const names = actionNamesOf(table).filter((name) => actionOf(table, name)?.judges !== "new");
  const actions = names.map((name) => formAction(name, decide(name, undefined)));
  return { table: table.name, label: table.label, isNew: false, fields, actions };
}

/** The form of a new record: which fields may be given, as far as can be said before there are values. */
function newForm(table: Table, standard: Row, attempt: (field?: Field) => Decision, choices: Choices): Form {
  const act = attempt();
  const fields = table.fields.map((field) => {
    const decision = attempt(field);
    // To who may make a record, what it would hold anyway is not secret; a sensitive default stays hidden all the same.
    const isSeen = act.permitted && Object.hasOwn(standard, field.name) && (!field.sensitive || decision.permitted);
    return formField(field, decision, isSeen, standard[field.name], choices);
  });
  return { table: table.name, label: table.label, isNew: true, fields, actions: [formAction("create", act)] };
}

function formField(field: Field, decision: Decision, seen: boolean, value: unknown, choices: Choices): FormField {
  const { permitted, confirm, note } = decision;
  const open = confirm === undefined ? "editable" : "confirm";
  const state = seen ? (permitted ? open : "read-only") : "hidden";
  const chosen = permitted ? choices(field) : undefined;
  return {
    name: field.name,
    label: field.label,
    type: field.type.name,
    state,
    ...(permitted && !seen ? { blind: true as const } : {}),
    required: !field.optional && !field.computed && !field.generated,
    ...(seen ? { value } : {}),
    ...(decision.tentative === true ? { tentative: true as const } : {}),
    ...(decision.reason === "fault" ? { undecided: true as const } : {}),
    ...(permitted || note === undefined ? {} : { note }),
    ...(confirm === undefined ? {} : { confirm }),
    ...(chosen === undefined ? {} : { choices: chosen }),
  };
}

function formAction(name: ActionName, { permitted, reason, confirm, note }: Decision): FormAction {
  return {
    name,
    permitted,
    ...(reason === "fault" ? { undecided: true as const } : {}),
    ...(permitted || note === undefined ? {} : { note }),
    ...(confirm === undefined ? {} : { confirm }),
  };
}
