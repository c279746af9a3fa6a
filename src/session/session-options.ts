import type { Row, Source } from "../conditions/source.js";
import type { RoleClaim } from "./given-roles.js";

/** Something that the application's operators should hear of. The decision itself has already failed closed. */
export interface Finding {
  /** `fault`: deciding failed, so it was denied. `bad-data`: a stored value does not fit its type, so it is hidden. */
  readonly kind: "fault" | "bad-data";
  readonly message: string;
  readonly table?: string;
  readonly field?: string;
  readonly error?: unknown;
}

export interface SessionOptions {
  /**
   * Who asks: the key of a record in the people table (needs `source`), or that record itself. None is an anonymous
   * visitor. A key that is not there, or a person who is not active, opens a session in which nothing is permitted.
   */
  readonly person?: Row | string | number | null;
  /**
   * Who acts for that person: the key of another. Needs a delegation that runs at that moment; what is permitted is then
   * what the person may, without the roles that the delegation leaves out.
   */
  readonly actedBy?: string | number;
  /**
   * Roles that the sign-in brings along, such as those of a token, besides those that are stored. They are of whoever
   * signed in: of the person, or of who acts for them.
   */
  readonly claims?: Iterable<RoleClaim>;
  /** The values that the document declares under `request`; `now` (ISO 8601 with zone) defaults to this moment. */
  readonly request?: Readonly<Record<string, unknown>>;
  /** Where conditions read other records. */
  readonly source?: Source;
  /** Told of faults and of bad data. By default the first of them is a warning on the console. */
  readonly report?: (finding: Finding) => void;
}
