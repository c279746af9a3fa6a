import { fieldValue, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { knownBy } from "../rules/actions.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Field } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { storedValue } from "../schema/types/stored-form.js";
import { noSuchRecord, type Refusal } from "./change-result.js";
import type { Plan, TablePlan } from "./plan.js";
import type { UserMessages } from "./user-messages.js";

/** What checking references needs from the session. */
interface ReferenceContext {
  readonly people: string | undefined;
  readonly plan: Plan;
  readonly key: Scalar | null | undefined;
  readonly reading: Reading;
  readonly messages: UserMessages;
}

/**
 * The changed references that lead to no record that the person knows of, missing and hidden ones alike. Of a list the
 * added elements count (all, where the person does not see the list). A reference made of other fields is checked when
 * one of them changes; then each of those that did is at fault.
 */
export function missingRecords(
  context: ReferenceContext,
  plan: TablePlan,
  changed: readonly Field[],
  before: Row | undefined,
  makeAfter: () => Row,
): ReadonlyMap<Field, Refusal> {
  if (plan.made.length === 0 && !changed.some(isReference)) return nothing;
  const after = makeAfter();
  const missing = new Map<Field, Refusal>();
  for (const field of changed) {
    const { target, element } = field.type;
    if (after[field.name] === null) continue;
    const isLost =
      target !== undefined
        ? leadsNowhere(context, target, field, field.type.canonical(after[field.name]))
        : element?.target !== undefined && hasLostElement(context, plan, field, element.target, before, after);
    if (isLost) missing.set(field, noSuchRecord(field, context.messages));
  }
  for (const field of plan.made) {
    const parts = (field.by ?? []).filter((part) => changed.includes(part));
    if (parts.length === 0 || field.type.target === undefined) continue;
    const address = fieldValue(after, field);
    if (typeof address !== "string" || !leadsNowhere(context, field.type.target, field, address)) continue;
    for (const part of parts) missing.set(part, noSuchRecord(part, context.messages));
  }
  return missing;
}

const nothing: ReadonlyMap<Field, Refusal> = new Map();

function isReference({ type }: Field): boolean {
  return type.target !== undefined || type.element?.target !== undefined;
}

/** Whether a key (undefined for what is none, which is found invalid later) is that of no known record. */
function leadsNowhere(
  { people, plan, key, reading }: ReferenceContext,
  target: string,
  field: Field,
  value: Scalar | undefined,
): boolean {
  if (value === undefined) return false;
  if (target === people && value === key) return false;
  if (reading.source === undefined) {
    throw portierError("needs-source", { what: `checking what "${field.name}" refers to` });
  }
  const found = reading.source.find(target, String(value));
  return found === undefined || !plan.of(target).knows(found, reading);
}

function hasLostElement(
  context: ReferenceContext,
  plan: TablePlan,
  field: Field,
  target: string,
  before: Row | undefined,
  after: Row,
): boolean {
  const proposed = field.type.canonical(after[field.name]);
  if (proposed === undefined) return false;
  const isSeen =
    before !== undefined &&
    knownBy.some((action) => plan.decision(action, field.name)(before, context.reading).permitted);
  const stored = isSeen ? storedValue(field.type, before[field.name]) : undefined;
  const known = new Set(stored === undefined ? [] : listElements(stored));
  return listElements(proposed).some((one) => !known.has(one) && leadsNowhere(context, target, field, one));
}
