import type { Source } from "../conditions/source.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { AnyDocument, DocumentTypes, PersonOf, RequestOf } from "../schema/document-types.js";
import type { Schema } from "../schema/schema.js";
import { internals, Opaque } from "./internals.js";
import { memorySource } from "./memory-source.js";
import { OpenSession } from "./open-session.js";
import { Openings } from "./openings.js";
import type { SessionOptions } from "./session-options.js";
import type { MakeRoleGuard } from "./session-parts.js";

/** Any compiled document. */
export type AnyRules = OpenRules<DocumentTypes>;

/** A compiled document, for functions such as `openSession`. Immutable and shared by all requests. */
export class OpenRules<T extends DocumentTypes = AnyDocument> extends Opaque<Openings> {
  /** There for the types alone, so loosely that any session passes for one of tables that are not declared. */
  protected tables?<K extends keyof T["tables"]>(name: K, row: T["tables"][K]["row"]): T["tables"][K]["action"];

  /** Made by `compile` or `openCompiled`, not by applications. */
  constructor(ruleset: Ruleset, makeGuard?: MakeRoleGuard) {
    super(new Openings(ruleset, makeGuard));
  }

  /** The declared tables, fields, people and roles. */
  get schema(): Schema {
    return internals(this).schema;
  }
}

/** {@link Portier.session} as a function. */
export function openSession<T extends DocumentTypes = AnyDocument>(
  rules: OpenRules<T>,
  options: SessionOptions<PersonOf<T>, RequestOf<T>> = {},
): OpenSession<T> {
  return new OpenSession<T>(internals(rules).open(options));
}

/** {@link Portier.sessionForRoles} as a function. */
export function sessionForRoles<T extends DocumentTypes = AnyDocument>(
  rules: OpenRules<T>,
  roles: readonly string[],
  { request }: { readonly request?: RequestOf<T> } = {},
): OpenSession<T> {
  return new OpenSession<T>(internals(rules).openForRoles(roles, request ?? {}));
}

/** {@link Portier.source} as a function. */
export function source(rules: AnyRules, data: Readonly<Record<string, readonly object[]>>): Source {
  return memorySource(rules.schema, data);
}
