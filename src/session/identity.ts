import type { AnyRequest } from "../schema/document-types.js";
import type { RoleClaim } from "./assigned-roles.js";

/**
 * Who the current user is, as the application's sign-in says. `Key` is the type of people's keys and `Request` that of a request's
 * values, where the document tells.
 */
export interface Identity<Key extends string | number = string | number, Request extends AnyRequest = AnyRequest> {
  /** The key of a record in the people table; null for a visitor who is not signed in. */
  readonly person: Key | null;
  /**
   * Who acts for that person: the key of another. Needs a delegation that runs at the time; what is permitted is then what
   * the person may do, without the roles that the delegation leaves out.
   */
  readonly actedBy?: Key;
  /**
   * Roles that the sign-in brings along, such as those of a token, besides those that are stored. They belong to whoever
   * signed in: to the person, or to the one who acts for them.
   */
  readonly claims?: Iterable<RoleClaim>;
  /** The values that the document declares under `request`; `now` (ISO 8601 with zone) defaults to the current time. */
  readonly request?: Request;
}

/** An identity, or the key of a person who brings nothing else along. */
export type IdentityOrKey<Key extends string | number = string | number, Request extends AnyRequest = AnyRequest> =
  | Identity<Key, Request>
  | Key
  | null;

export function identityOf(who: IdentityOrKey): Identity {
  return typeof who === "object" && who !== null ? who : { person: who };
}
