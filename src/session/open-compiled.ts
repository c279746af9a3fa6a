import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { type CompiledDocument, rulesetFrom } from "./compiled.js";
import { Portier } from "./portier.js";

/**
 * Opens a document that was compiled before: the same answers as from the document itself.
 *
 * @throws PortierError (`wrong-call`) for what is not a compiled document of this version, and for one that is damaged.
 */
export function openCompiled<T extends DocumentTypes = AnyDocument>(document: CompiledDocument): Portier<T> {
  return new Portier<T>(rulesetFrom(document));
}
