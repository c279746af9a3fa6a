import type { Row } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import { portierError } from "../schema/problems.js";
import type { AnyTables, TableOf, TableTypes } from "../schema/table-types.js";
import { type Acceptance, type ChangeOptions, checkOptions, faultyChange } from "./acceptance.js";
import { acceptAct, acceptCreate, acceptEdit } from "./changes.js";
import { internals } from "./internals.js";
import { acceptLines, acceptMany, type ManyAcceptance } from "./many.js";
import type { OpenSession } from "./open-session.js";
import { isRow, wrongRecord } from "./row.js";

/** How a change is judged, by its action: see {@link Session.accept}. */
export interface Accept {
  <T extends TableTypes = AnyTables>(
    session: OpenSession<T>,
    action: "edit",
    table: TableOf<T>,
    record: Row | undefined,
    values: Row,
    options?: ChangeOptions,
  ): Acceptance;
  <T extends TableTypes = AnyTables>(
    session: OpenSession<T>,
    action: "create",
    table: TableOf<T>,
    values: Row,
    options?: ChangeOptions,
  ): Acceptance;
  <T extends TableTypes = AnyTables, K extends TableOf<T> = TableOf<T>>(
    session: OpenSession<T>,
    action: "delete" | T[K]["action"],
    table: K,
    record: Row | undefined,
    options?: ChangeOptions,
  ): Acceptance;
}

/** {@link Session.accept} as a function. */
export const accept: Accept = acceptAny;

/** The same for an action that is not known beforehand. */
export function acceptAny<T extends TableTypes>(
  session: OpenSession<T>,
  action: ActionName,
  table: string,
  record: Row | undefined,
  valuesOrOptions?: Row | ChangeOptions,
  options?: ChangeOptions,
): Acceptance {
  const state = internals(session);
  const plan = state.plan.of(table);
  const { speaksOf } = plan.checkAction(action);
  if (record !== undefined && !isRow(record)) throw wrongRecord(action, record);
  if (action === "create") {
    const checked = checkOptions(valuesOrOptions);
    if (record === undefined) throw wrongRecord(action, record);
    return state.guard(() => acceptCreate(state.changing, plan, record, checked), faultyChange);
  }
  if (action === "edit") {
    const checked = checkOptions(options);
    if (!isRow(valuesOrOptions)) throw wrongRecord("edit", valuesOrOptions);
    return state.guard(() => acceptEdit(state.changing, plan, record, valuesOrOptions, checked), faultyChange);
  }
  if (speaksOf !== "record") {
    const hint = "use edit, create, delete or a custom action; for many records acceptBulk and acceptImport";
    throw portierError("wrong-call", { what: `${String(action)} changes no single record`, hint });
  }
  const checked = checkOptions(valuesOrOptions);
  return state.guard(() => acceptAct(state.changing, plan, action, record, checked), faultyChange);
}

/** {@link Session.acceptBulk} as a function. */
export function acceptBulk<T extends TableTypes = AnyTables>(
  session: OpenSession<T>,
  table: TableOf<T>,
  records: readonly (Row | undefined)[],
  values: Row,
  options?: ChangeOptions,
): ManyAcceptance {
  const state = internals(session);
  const plan = state.plan.of(table);
  const checked = checkOptions(options);
  for (const record of records) if (record !== undefined && !isRow(record)) throw wrongRecord("bulk", record);
  if (!isRow(values)) throw wrongRecord("bulk", values);
  const fault: ManyAcceptance = { accepted: false, results: records.map(() => faultyChange) };
  return state.guard(() => acceptMany(state.changing, plan, records, values, checked), fault);
}

/** {@link Session.acceptImport} as a function. */
export function acceptImport<T extends TableTypes = AnyTables>(
  session: OpenSession<T>,
  table: TableOf<T>,
  lines: readonly Row[],
  options?: ChangeOptions,
): ManyAcceptance {
  const state = internals(session);
  const plan = state.plan.of(table);
  const checked = checkOptions(options);
  for (const line of lines) if (!isRow(line)) throw wrongRecord("import", line);
  const fault: ManyAcceptance = { accepted: false, results: lines.map(() => faultyChange) };
  return state.guard(() => acceptLines(state.changing, plan, lines, checked), fault);
}
