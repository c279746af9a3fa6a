import type { Source } from "../conditions/source.js";
import type { AnyRequest } from "../schema/document-types.js";
import type { Identity } from "./identity.js";
import type { UserMessages } from "./user-messages.js";

/** Something that the application's operators should hear of. The decision itself has already failed closed. */
export interface Diagnostic {
  /** `fault`: deciding failed, so it was denied. `bad-data`: a stored value does not fit its type, so it is hidden. */
  readonly kind: "fault" | "bad-data";
  /** For a log; it may name the field and the value. */
  readonly message: string;
  /** Where the bad data is; absent for a fault. */
  readonly table?: string;
  readonly field?: string;
  /** What was thrown, for a fault. */
  readonly error?: unknown;
}

/** Who the current user is, and what a session needs besides. */
export interface SessionOptions<Key extends string | number = string | number, Request extends AnyRequest = AnyRequest>
  extends Partial<Omit<Identity<Key, Request>, "person">> {
  /**
   * The current user: the key of a record in the people table (needs `source`), or that record itself. Default: a visitor
   * who is not signed in. A key that does not exist, or a person who is not active, opens a session in which nothing is
   * permitted.
   */
  readonly person?: Key | object | null;
  /** Where conditions read other records. */
  readonly source?: Source;
  /** What end users read of a refused change, where no rule has a note for it. Default: English. */
  readonly messages?: Partial<UserMessages>;
  /** Called for faults and bad data. Default: the first of them is a warning on the console. */
  readonly onDiagnostic?: (diagnostic: Diagnostic) => void;
}
