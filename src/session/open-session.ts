import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { internals, Opaque } from "./internals.js";
import type { SessionParts } from "./session-parts.js";
import { SessionState } from "./session-state.js";

/** The session of any document. */
export type AnySession = OpenSession<DocumentTypes>;

/** One person's view of the rules, for one request: what functions such as `may` and `mask` are asked with. */
export class OpenSession<T extends DocumentTypes = AnyDocument> extends Opaque<SessionState> {
  /** There for the types alone, so loosely that any session passes for one of tables that are not declared. */
  protected tables?<K extends keyof T["tables"]>(name: K, row: T["tables"][K]["row"]): T["tables"][K]["action"];

  /** Made by `Portier.session`, `openSession` or from a snapshot, not by applications. */
  constructor(parts: SessionParts) {
    super(new SessionState(parts));
  }

  /** The roles that the person holds, includes among them, in alphabetical order; scoped ones as `editor of e-2`. */
  get roles(): readonly string[] {
    return internals(this).parts.roles();
  }

  /** The key of the current user, as text; undefined for a visitor, or for somebody made up. */
  get person(): string | undefined {
    const { key } = internals(this).parts;
    return key === null || key === undefined ? undefined : String(key);
  }

  /** The key of who acts for that person; undefined where they act themselves. */
  get actedBy(): string | undefined {
    return internals(this).parts.actedBy;
  }
}
