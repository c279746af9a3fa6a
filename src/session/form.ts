import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf, actionOf } from "../rules/actions.js";
import type { Field } from "../schema/schema.js";
import { type ChangeContext, standardRecord } from "./changes.js";
import { choicesOf } from "./choices.js";
import type { Confirmation, Decision } from "./decision.js";
import type { MaskedRow } from "./mask.js";
import type { TablePlan } from "./plan.js";
import { reachOf } from "./table-reach.js";

/** How a field stands in a form. */
export type FieldState = "hidden" | "read-only" | "editable" | "confirm";

export interface FormField {
  readonly name: string;
  /** `confirm`: may be edited, once what is in `confirm` is confirmed. A field may be hidden and still be set. */
  readonly state: FieldState;
  /** The stored value, or of a new record the default; absent where it may not be seen. */
  readonly value?: unknown;
  /** Whether the value is seen; a field that may be set without being seen is `editable` and not seen. */
  readonly seen: boolean;
  /** The new values may still refuse it. */
  readonly tentative?: true;
  readonly required: boolean;
  /** What the rule that keeps the field from being set protects and why. */
  readonly note?: string;
  readonly confirm?: readonly Confirmation[];
  /** The values that may be chosen, for a field that may be set; keys for a reference. */
  readonly choices?: readonly (string | number | boolean)[];
}

export interface FormAction {
  readonly name: string;
  readonly permitted: boolean;
  readonly note?: string;
  readonly confirm?: readonly Confirmation[];
}

/** What a page needs to show and change one record, or to make one. Plain JSON. */
export interface Form {
  readonly table: string;
  readonly isNew: boolean;
  readonly fields: readonly FormField[];
  /** What may be done with the record; for a new one whether it may be made. */
  readonly actions: readonly FormAction[];
}

/** The form of a stored record; undefined for one that the person does not know of. `seen` is what they see of it. */
export function formOf(context: ChangeContext, plan: TablePlan, record: Row, seen: MaskedRow): Form | undefined {
  const { reading } = context;
  const { table } = plan;
  if (!plan.knows(record, reading)) return undefined;
  const fields = table.fields.map((field) => {
    const decision = plan.decision("edit", field.name)(record, reading);
    const isSeen = Object.hasOwn(seen, field.name);
    return formField(field, decision, isSeen, seen[field.name], () => choicesOf(context, plan, field, record));
  });
  const names = actionNamesOf(table).filter((name) => actionOf(table, name)?.judges !== "new");
  const actions = names.map((name) => formAction(name, plan.decision(name, undefined)(record, reading)));
  return { table: table.name, isNew: false, fields, actions };
}

/** The form of a new record: which fields may be given, as far as can be said before there are values. */
export function newForm(context: ChangeContext, plan: TablePlan, attempt: (field?: Field) => Decision): Form {
  const { table } = plan;
  const standard = standardRecord(context, table);
  const act = attempt();
  const fields = table.fields.map((field) => {
    const decision = attempt(field);
    // To who may make a record, what it would hold anyway is no secret; a sensitive default stays hidden all the same.
    const isSeen = act.permitted && Object.hasOwn(standard, field.name) && (!field.sensitive || decision.permitted);
    return formField(field, decision, isSeen, standard[field.name], () => choicesOf(context, plan, field, undefined));
  });
  return { table: table.name, isNew: true, fields, actions: [formAction("create", act)] };
}

function formField(
  field: Field,
  decision: Decision,
  seen: boolean,
  value: unknown,
  choices: () => readonly (string | number | boolean)[] | undefined,
): FormField {
  const { permitted, confirm, note } = decision;
  const state = permitted ? (confirm === undefined ? "editable" : "confirm") : seen ? "read-only" : "hidden";
  const chosen = permitted ? choices() : undefined;
  return {
    name: field.name,
    state,
    seen,
    required: !field.optional && !field.computed && !field.generated,
    ...(seen ? { value } : {}),
    ...(decision.tentative === true ? { tentative: true as const } : {}),
    ...(permitted || note === undefined ? {} : { note }),
    ...(confirm === undefined ? {} : { confirm }),
    ...(chosen === undefined ? {} : { choices: chosen }),
  };
}

function formAction(name: ActionName, { permitted, confirm, note }: Decision): FormAction {
  return {
    name,
    permitted,
    ...(permitted || note === undefined ? {} : { note }),
    ...(confirm === undefined ? {} : { confirm }),
  };
}

/** Whether a record may be made at all, or a field given to it, before any value is known. */
export function attemptNew(plan: TablePlan, action: "create" | "import", field: Field | undefined): Decision {
  const reach = reachOf(plan, action, field);
  const needed = action === "import" ? (["create", "import"] as const) : (["create"] as const);
  const gates = needed.flatMap((one) => {
    const act = plan.act(one);
    return field === undefined ? [act] : [act, plan.fields(one).gates[field.index] ?? act];
  });
  if (reach === "none") {
    const refusing = gates.find((gate) => gate.reach === "none");
    const block = refusing?.placed.find(({ step }) => step.phase === "block" && step.before.kind === "truth")?.step;
    return block?.decision ?? { permitted: false, reason: "not-permitted" };
  }
  const last = gates[gates.length - 1];
  const permit = last?.placed.find(({ step }) => step.phase === "permit")?.step;
  if (permit === undefined) return { permitted: false, reason: "not-permitted" };
  return reach === "all" ? permit.decision : permit.tentativeDecision;
}
