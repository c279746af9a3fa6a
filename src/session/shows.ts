import type { Row } from "../conditions/source.js";
import type { ShowAction } from "../rules/action-tree.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { internals } from "./internals.js";
import { type Mask, maskOf } from "./mask.js";
import type { OpenSession } from "./open-session.js";
import { isRow, wrongRecord } from "./row.js";
import type { SessionState } from "./session-state.js";
import type { Masked } from "./session-types.js";
import type { MaskedRow } from "./shown-fields.js";
import { sortKeys, sortRecords } from "./sort.js";

/** {@link Session.mask} as a function. */
export function mask<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  record: object,
  action: ShowAction = "view",
): Masked<T, K> | undefined {
  const state = internals(session);
  const made = maskFor(state, table, action);
  if (!isRow(record)) throw wrongRecord(action, record);
  return masked(state, made, record) as Masked<T, K> | undefined;
}

/** {@link Session.maskAll} as a function. */
export function maskAll<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  records: Iterable<object>,
  action: ShowAction = "list",
): Masked<T, K>[] {
  const state = internals(session);
  const made = maskFor(state, table, action);
  const shown: Masked<T, K>[] = [];
  for (const record of records) {
    if (!isRow(record)) throw wrongRecord(action, record);
    const seen = masked(state, made, record);
    if (seen !== undefined) shown.push(seen as Masked<T, K>);
  }
  return shown;
}

/** {@link Session.sort} as a function. */
export function sort<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  table: K,
  records: Iterable<Masked<T, K>>,
  by: readonly string[],
): Masked<T, K>[] {
  const keys = sortKeys(internals(session).plan.of(table).table, by);
  return sortRecords(records as Iterable<Masked<T, K> & Row>, keys);
}

function masked(state: SessionState, made: Mask, record: Row): MaskedRow | undefined {
  try {
    return made(record, state.reading);
  } catch (error) {
    state.reportFault(error);
    return undefined;
  }
}

function maskFor(state: SessionState, table: string, action: ShowAction): Mask {
  const plan = state.plan.of(table);
  plan.checkAction(action);
  if (action !== "view" && action !== "list" && action !== "export") {
    const what = `a record is masked for list, view or export, not for ${String(action satisfies never)}`;
    throw portierError("wrong-call", { what, hint: "use list, view or export" });
  }
  return state.guard(
    () => maskOf(plan, action),
    () => undefined,
  );
}
