import type { Source } from "../conditions/source.js";
import { compileRules } from "../rules/compile-rules.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { TypedDocument } from "../schema/document.js";
import type { AnyDocument, DocumentTypes, PersonOf, RequestOf } from "../schema/document-types.js";
import type { Locate } from "../schema/problems.js";
import { internals } from "./internals.js";
import { memorySource } from "./memory-source.js";
import { OpenRules } from "./open-rules.js";
import { roleGuard } from "./roles/guard.js";
import { Session } from "./session.js";
import type { SessionOptions } from "./session-options.js";

/** How a document is compiled. */
export interface CompileOptions {
  /** Gives file, line and column of a place in the document, for the problems of a document that was read from text. */
  readonly locate?: Locate;
}

/**
 * Checks a document and makes it ready for sessions.
 *
 * @throws PortierError with every problem of the document, in the order of the file. Nothing is half-loaded.
 */
export function compile<T extends DocumentTypes = AnyDocument>(
  document: TypedDocument<T>,
  options: CompileOptions = {},
): Portier<T> {
  return new Portier(compileRules(document, options.locate));
}

/** A compiled document. Immutable and shared by all requests; when the document changes, compile a new one and swap. */
export class Portier<T extends DocumentTypes = AnyDocument> extends OpenRules<T> {
  /** Made by {@link compile}, not by applications. */
  constructor(ruleset: Ruleset) {
    super(ruleset, roleGuard);
  }

  /**
   * Opens the view of one person for one request.
   *
   * @throws PortierError when a person's role is one that does not exist, when a request value is not declared or does
   * not fit, when a person is given by key without a source, or when roles come from a link table and the source cannot
   * find what refers to a person.
   */
  session(options: SessionOptions<PersonOf<T>, RequestOf<T>> = {}): Session<T> {
    return new Session(internals(this).open(options));
  }

  /**
   * The view of somebody who holds these roles (and all they include), or is in these groups, and of whom nothing else is
   * known. Good for `reach`; conditions on the person are open, so decisions on records see them as unknown. Of the
   * request, `now` counts: a rule may be there for a time.
   */
  sessionForRoles(roles: readonly string[], { request }: { readonly request?: RequestOf<T> } = {}): Session<T> {
    return new Session(internals(this).openForRoles(roles, request ?? {}));
  }

  /** A source over records in memory: table name to records. */
  source(data: Readonly<Record<string, readonly object[]>>): Source {
    return memorySource(this.schema, data);
  }
}
