import type { AnyDocument, DocumentTypes, TableOf, ValuesOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { type ChangeOptions, type ChangeResult, checkOptions, faultyChange } from "./change-result.js";
import { actionResult, createResult, editResult } from "./changes.js";
import { type BatchResult, bulkEditResult, importResult } from "./check-batch.js";
import { internals } from "./internals.js";
import type { OpenSession } from "./open-session.js";
import { isRow, rowOf, wrongRecord } from "./row.js";

/** {@link Session.checkCreate} as a function. */
export function checkCreate<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  values: ValuesOf<T, K>,
  options?: ChangeOptions,
): ChangeResult {
  const state = internals(session);
  const plan = state.plan.of(table);
  const checked = checkOptions(options);
  if (!isRow(values)) throw wrongRecord("create", values);
  return state.guard(() => createResult(state.changing, plan, values, checked), faultyChange);
}

/** {@link Session.checkEdit} as a function. */
export function checkEdit<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  record: object | undefined,
  values: ValuesOf<T, K>,
  options?: ChangeOptions,
): ChangeResult {
  const state = internals(session);
  const plan = state.plan.of(table);
  if (record !== undefined && !isRow(record)) throw wrongRecord("edit", record);
  const checked = checkOptions(options);
  if (!isRow(values)) throw wrongRecord("edit", values);
  return state.guard(() => editResult(state.changing, plan, record, values, checked), faultyChange);
}

/** {@link Session.checkDelete} as a function. */
export function checkDelete<T extends DocumentTypes = AnyDocument>(
  session: OpenSession<T>,
  table: TableOf<T>,
  record: object | undefined,
  options?: ChangeOptions,
): ChangeResult {
  return checkOnRecord(session, "delete", table, record, options);
}

/** {@link Session.checkAction} as a function. */
export function checkAction<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  action: T["tables"][K]["action"],
  table: K,
  record: object | undefined,
  options?: ChangeOptions,
): ChangeResult {
  return checkOnRecord(session, action, table, record, options);
}

/** Deleting and custom actions: something is done with a record as it is stored. */
function checkOnRecord<T extends DocumentTypes>(
  session: OpenSession<T>,
  action: string,
  table: TableOf<T>,
  record: object | undefined,
  options: ChangeOptions | undefined,
): ChangeResult {
  const state = internals(session);
  const plan = state.plan.of(table);
  const { target } = plan.checkAction(action);
  if (record !== undefined && !isRow(record)) throw wrongRecord(action, record);
  if (target !== "record" || action === "create") {
    const hint = "use checkEdit, checkCreate, checkDelete, or for many records checkBulkEdit and checkImport";
    throw portierError("wrong-call", { what: `${action} is not an action on one stored record`, hint });
  }
  const checked = checkOptions(options);
  return state.guard(() => actionResult(state.changing, plan, action, record, checked), faultyChange);
}

/** {@link Session.checkBulkEdit} as a function. */
export function checkBulkEdit<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  records: readonly (object | undefined)[],
  values: ValuesOf<T, K>,
  options?: ChangeOptions,
): BatchResult {
  const state = internals(session);
  const plan = state.plan.of(table);
  const checked = checkOptions(options);
  const rows = records.map((record) => (record === undefined ? undefined : rowOf("bulk", record)));
  if (!isRow(values)) throw wrongRecord("bulk", values);
  const fault: BatchResult = { accepted: false, results: rows.map(() => faultyChange) };
  return state.guard(() => bulkEditResult(state.changing, plan, rows, values, checked), fault);
}

/** {@link Session.checkImport} as a function. */
export function checkImport<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  lines: readonly ValuesOf<T, K>[],
  options?: ChangeOptions,
): BatchResult {
  const state = internals(session);
  const plan = state.plan.of(table);
  const checked = checkOptions(options);
  const rows = lines.map((line) => rowOf("import", line));
  const fault: BatchResult = { accepted: false, results: rows.map(() => faultyChange) };
  return state.guard(() => importResult(state.changing, plan, rows, checked), fault);
}
