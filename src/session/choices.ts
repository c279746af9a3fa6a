import { fieldValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import type { AnyDocument, DocumentTypes, FieldOf, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { Field } from "../schema/schema.js";
import { storedForm, storedValue } from "../schema/types/stored-form.js";
import type { ChangeContext } from "./change-context.js";
import { editResult } from "./changes.js";
import type { Gate } from "./gate.js";
import { internals } from "./internals.js";
import { standardRecord } from "./new-record.js";
import type { OpenSession } from "./open-session.js";
import type { TablePlan } from "./plan.js";
import { missingRecords } from "./references.js";
import { isRow, wrongRecord } from "./row.js";

/** {@link Session.choices} as a function. */
export function choices<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  field: FieldOf<T, K>,
  record?: object,
): readonly (string | number | boolean)[] | undefined {
  const state = internals(session);
  const plan = state.plan.of(table);
  const asked = plan.field(field);
  if (record !== undefined && !isRow(record)) throw wrongRecord("choices", record);
  return state.guard(() => choicesOf(state.changing, plan, asked, record), []);
}

/**
 * The values that a person may put into a field: for a choice its values, for a reference the keys of the records that
 * they may list, as far as the change to each would be accepted (confirmations aside). For a list of references, the
 * keys that may be added. Undefined for a field of another type.
 *
 * @throws PortierError (`needs-source`) for a reference, where the source cannot give all records of a table.
 */
export function choicesOf(
  context: ChangeContext,
  plan: TablePlan,
  field: Field,
  record: Row | undefined,
): readonly (string | number | boolean)[] | undefined {
  const candidates = candidatesOf(context, field);
  if (candidates === undefined) return undefined;
  const accepts = record === undefined ? acceptsNew(context, plan, field) : acceptsChange(context, plan, field, record);
  return candidates.filter(accepts);
}

type Candidate = string | number | boolean;

function candidatesOf(context: ChangeContext, field: Field): Candidate[] | undefined {
  const { choices } = field.type;
  const target = field.type.target ?? field.type.element?.target;
  if (target === undefined) return choices === undefined ? undefined : [...choices];
  const { reading } = context;
  if (reading.source?.all === undefined) {
    throw portierError("needs-source", { what: `the choices of "${field.name}"`, method: "all" });
  }
  const plan = context.plan.of(target);
  const isListed = plan.decision("list", undefined);
  const [key, ...more] = plan.table.key;
  const found: Candidate[] = [];
  for (const row of reading.source.all(target)) {
    if (!isListed(row, reading).permitted) continue;
    const value = more.length > 0 ? recordAddress(plan.table, row) : key && storedValue(key.type, row[key.name]);
    if (value !== undefined) found.push(value);
  }
  return found;
}

/** A value of a list field is one that is added to it. */
function withValue(field: Field, row: Row, value: Candidate): unknown {
  if (field.type.element === undefined) return value;
  const stored = storedForm(field.type, fieldValue(row, field));
  const list = Array.isArray(stored) ? stored : [];
  return list.includes(value) ? list : [...list, value];
}

function acceptsChange(context: ChangeContext, plan: TablePlan, field: Field, record: Row) {
  return (value: Candidate): boolean => {
    const values = { [field.name]: withValue(field, record, value) };
    const outcome = editResult(context, plan, record, values, {});
    return outcome.accepted || outcome.reason === "unconfirmed";
  };
}

function acceptsNew(context: ChangeContext, plan: TablePlan, field: Field) {
  const standard = standardRecord(context, plan.table);
  const gates = plan.judging("create").fields[field.index] as readonly Gate[];
  const { later } = context;
  return (value: Candidate): boolean => {
    const record = { ...standard, [field.name]: withValue(field, standard, value) };
    const isStandard = standard[field.name] === value;
    if (!isStandard && !gates.every((gate) => gate.decide(record, later).permitted)) return false;
    return isStandard || missingRecords(context, plan, [field], undefined, () => record).size === 0;
  };
}
