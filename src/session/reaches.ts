import type { AnyDocument, DocumentTypes, FieldOf, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { internals } from "./internals.js";
import type { OpenSession } from "./open-session.js";
import type { Reach } from "./reach.js";
import { noScreens, type ShownScreens } from "./screens.js";
import type { ActionOf } from "./session-types.js";

/** {@link Session.reach} as a function. */
export function reach<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: OpenSession<T>,
  action: ActionOf<T, K>,
  table: K,
  field?: FieldOf<T, K>,
): Reach {
  const state = internals(session);
  const plan = state.plan.of(table);
  const { target } = plan.checkAction(action);
  const asked = field === undefined ? undefined : plan.field(field);
  if (asked !== undefined && target === "record") {
    const what = `${String(action)} of "${plan.table.name}" speaks of a record, not of "${asked.name}"`;
    throw portierError("wrong-call", { what, hint: "leave the field out" });
  }
  return state.guard(() => state.parts.decided().of(table).answers(action).reach(field), "none");
}

/** {@link Session.screens} as a function. */
export function screens<T extends DocumentTypes = AnyDocument>(session: OpenSession<T>): readonly string[] {
  return shown(session).screens;
}

/** {@link Session.home} as a function. */
export function home<T extends DocumentTypes = AnyDocument>(session: OpenSession<T>): string | undefined {
  return shown(session).home;
}

function shown<T extends DocumentTypes>(session: OpenSession<T>): ShownScreens {
  const state = internals(session);
  const reached = () =>
    state.parts.screens(({ action, table, field }) =>
      reach(session, action, table.name as TableOf<T>, field?.name as never),
    );
  return state.guard(reached, noScreens);
}
