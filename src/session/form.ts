import type { Row } from "../conditions/source.js";
import { actionTree, gatesIn } from "../rules/action-tree.js";
import { type ActionName, actionNamesOf, actionOf } from "../rules/actions.js";
import type { Field, Table } from "../schema/schema.js";
import type { Confirmation, Decision } from "./decision.js";
import type { TablePlan } from "./plan.js";
import type { MaskedRow } from "./shown-fields.js";
import { treeReach } from "./table-reach.js";

/** How a field stands in a form. */
export type FieldState = "hidden" | "read-only" | "editable" | "confirm";

export interface FormField {
  readonly name: string;
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
  /** It could not be decided here, and so counts as refused. */
  readonly undecided?: true;
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

type Choices = (field: Field) => readonly (string | number | boolean)[] | undefined;

/**
 * The form of a stored record that the person knows of. `seen` is what they see of it; each field and action is decided by
 * itself, so that one that cannot be decided takes nothing else along.
 */
export function formOf(
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
  return { table: table.name, isNew: false, fields, actions };
}

/** The form of a new record: which fields may be given, as far as can be said before there are values. */
export function newForm(table: Table, standard: Row, attempt: (field?: Field) => Decision, choices: Choices): Form {
  const act = attempt();
  const fields = table.fields.map((field) => {
    const decision = attempt(field);
    // To who may make a record, what it would hold anyway is no secret; a sensitive default stays hidden all the same.
    const isSeen = act.permitted && Object.hasOwn(standard, field.name) && (!field.sensitive || decision.permitted);
    return formField(field, decision, isSeen, standard[field.name], choices);
  });
  return { table: table.name, isNew: true, fields, actions: [formAction("create", act)] };
}

function formField(field: Field, decision: Decision, seen: boolean, value: unknown, choices: Choices): FormField {
  const { permitted, confirm, note } = decision;
  const open = confirm === undefined ? "editable" : "confirm";
  const state = seen ? (permitted ? open : "read-only") : "hidden";
  const chosen = permitted ? choices(field) : undefined;
  return {
    name: field.name,
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

/** Whether a record may be made at all, or a field given to it, before any value is known. */
export function attemptNew(plan: TablePlan, action: "create" | "import", field: Field | undefined): Decision {
  const tree = actionTree(plan.table, action, field);
  const reach = treeReach(plan, tree);
  const gates = gatesIn(tree).map((node) => plan.gate(node));
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
