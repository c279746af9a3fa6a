// Everything that a session is asked, as functions: a bundle carries those that it calls, and not the rest.
import { compileRules } from "../rules/compile-rules.js";
import type { TypedDocument } from "../schema/document.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import * as plain from "../session/check-change.js";
import { choices as plainChoices } from "../session/choices.js";
import { type CompiledDocument, rulesetFrom } from "../session/compiled.js";
import { form as plainForm } from "../session/form.js";
import { internals } from "../session/internals.js";
import { OpenRules } from "../session/open-rules.js";
import type { OpenSession } from "../session/open-session.js";
import type { CompileOptions } from "../session/portier.js";
import { roleGuard } from "../session/roles/guard.js";

/** `compile` of `portier`, for functions. */
export function compile<T extends DocumentTypes = AnyDocument>(
  document: TypedDocument<T>,
  { locate }: CompileOptions = {},
): OpenRules<T> {
  return new OpenRules(compileRules(document, locate));
}

/** `openCompiled` of `portier/compiled`, for functions. */
export function openCompiled<T extends DocumentTypes = AnyDocument>(document: CompiledDocument): OpenRules<T> {
  return new OpenRules(rulesetFrom(document));
}

/** A function that may judge changes of who holds what brings along what judges them. */
function judging<F extends (session: OpenSession, ...rest: never[]) => unknown>(ask: F): F {
  return ((session, ...rest) => {
    internals(session).makeGuard = roleGuard;
    return ask(session, ...rest);
  }) as F;
}

/** {@link Session.checkAction} as a function. */
export const checkAction = /* @__PURE__ */ judging(plain.checkAction);

/** {@link Session.checkBulkEdit} as a function. */
export const checkBulkEdit = /* @__PURE__ */ judging(plain.checkBulkEdit);

/** {@link Session.checkCreate} as a function. */
export const checkCreate = /* @__PURE__ */ judging(plain.checkCreate);

/** {@link Session.checkDelete} as a function. */
export const checkDelete = /* @__PURE__ */ judging(plain.checkDelete);

/** {@link Session.checkEdit} as a function. */
export const checkEdit = /* @__PURE__ */ judging(plain.checkEdit);

/** {@link Session.checkImport} as a function. */
export const checkImport = /* @__PURE__ */ judging(plain.checkImport);

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
