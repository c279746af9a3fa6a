import type { ActionName } from "../rules/actions.js";
import type { AnyDocument, DocumentTypes, FieldOf, TableOf } from "../schema/document-types.js";
import type { Answers } from "./answers.js";
import { attemptNew } from "./attempt.js";
import { type Decision, faulted } from "./decision.js";
import { internals } from "./internals.js";
import type { OpenSession } from "./open-session.js";
import { isRow, wrongRecord } from "./row.js";
import { type Asked, noField, type SessionState } from "./session-state.js";
import type { ActionOf } from "./session-types.js";

/** {@link Session.may} as a function. */
export function may<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  action: ActionOf<T, K>,
  table: K,
  record?: object,
  field?: FieldOf<T, K>,
): boolean {
  const state = internals(session);
  const last = state.lastYes;
  if (last.field !== field || last.table !== table || last.action !== action) {
    last.answer = answersTo(state, last, action, table).permits(field);
    last.field = field;
  }
  if (!isRow(record)) return withoutRecord(state, action, table, record, field).permitted;
  try {
    return last.answer(record, state.reading);
  } catch (error) {
    state.reportFault(error);
    return false;
  }
}

/** {@link Session.question} as a function. */
export function question<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  action: ActionOf<T, K>,
  table: K,
  field?: FieldOf<T, K>,
): (record: object) => boolean {
  const state = internals(session);
  const { reading } = state;
  const permits = state.plan.of(table).answers(action).permits(field);
  return (record) => {
    if (!isRow(record)) throw wrongRecord(action, record);
    try {
      return permits(record, reading);
    } catch (error) {
      state.reportFault(error);
      return false;
    }
  };
}

/** {@link Session.decide} as a function. */
export function decide<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  action: ActionOf<T, K>,
  table: K,
  record?: object,
  field?: FieldOf<T, K>,
): Decision {
  const state = internals(session);
  const last = state.lastDecision;
  if (last.field !== field || last.table !== table || last.action !== action) {
    last.answer = answersTo(state, last, action, table).decide(field);
    last.field = field;
  }
  if (!isRow(record)) return withoutRecord(state, action, table, record, field);
  try {
    return last.answer(record, state.reading);
  } catch (error) {
    state.reportFault(error);
    return faulted;
  }
}

function answersTo({ plan }: SessionState, last: Asked<unknown>, action: ActionName, table: string): Answers {
  if (last.answers !== undefined && last.table === table && last.action === action) return last.answers;
  // Of a field that is not there, nothing is to be remembered: neither of the question before.
  last.field = noField;
  last.answers = plan.of(table).answers(action);
  last.action = action;
  last.table = table;
  return last.answers;
}

function withoutRecord(
  state: SessionState,
  action: ActionName,
  table: string,
  record: unknown,
  field: string | undefined,
): Decision {
  if ((action !== "create" && action !== "import") || record !== undefined) throw wrongRecord(action, record);
  const plan = state.parts.decided().of(table);
  const asked = field === undefined ? undefined : plan.field(field);
  const act = action === "import" ? "import" : "create";
  return state.guard(() => attemptNew(plan, act, asked), faulted);
}
