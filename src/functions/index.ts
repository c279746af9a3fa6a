// Everything that a session is asked, as functions: a bundle carries those that it calls, and not the rest.
import { compileRules } from "../rules/compile-rules.js";
import type { TypedDocument } from "../schema/document.js";
import type { AnyTables, TableTypes } from "../schema/table-types.js";
import * as plain from "../session/accept.js";
import { choices as plainChoices } from "../session/choices.js";
import { type CompiledDocument, rulesetFrom } from "../session/compiled.js";
import { form as plainForm } from "../session/form.js";
import { internals } from "../session/internals.js";
import { OpenRules } from "../session/open-rules.js";
import type { OpenSession } from "../session/open-session.js";
import type { CompileOptions } from "../session/portier.js";
import { roleGuard } from "../session/roles/guard.js";

/** `compile` of `portier`, for functions. */
export function compile<T extends TableTypes = AnyTables>(
  document: TypedDocument<T>,
  { locate }: CompileOptions = {},
): OpenRules<T> {
  return new OpenRules(compileRules(document, locate));
}

/** `openCompiled` of `portier/compiled`, for functions. */
export function openCompiled<T extends TableTypes = AnyTables>(document: CompiledDocument): OpenRules<T> {
  return new OpenRules(rulesetFrom(document));
}

/** A function that may judge changes of who holds what brings along what judges them. */
function judging<F extends (session: OpenSession, ...rest: never[]) => unknown>(ask: F): F {
  return ((session, ...rest) => {
    internals(session).makeGuard = roleGuard;
    return ask(session, ...rest);
  }) as F;
}

/** {@link Session.accept} as a function. */
export const accept: plain.Accept = /* @__PURE__ */ judging(plain.accept);

/** {@link Session.acceptBulk} as a function. */
export const acceptBulk = /* @__PURE__ */ judging(plain.acceptBulk);

/** {@link Session.acceptImport} as a function. */
export const acceptImport = /* @__PURE__ */ judging(plain.acceptImport);

/** {@link Session.choices} as a function. */
export const choices = /* @__PURE__ */ judging(plainChoices);

/** {@link Session.form} as a function. */
export const form = /* @__PURE__ */ judging(plainForm);

export type { Row, Source } from "../conditions/source.js";
export { type OpenRules, openSession, sessionForRoles, source } from "../session/open-rules.js";
export type { OpenSession } from "../session/open-session.js";
export { decide, may, question } from "../session/questions.js";
export { home, reach, screens } from "../session/reaches.js";
export { mask, maskAll, sort } from "../session/shows.js";
