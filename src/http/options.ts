import type { Row } from "../conditions/source.js";
import type { Connection } from "../database/connection.js";
import type { Observe } from "../database/observing.js";
import type { ActingOptions } from "../database/work.js";
import type { AnyTables, TableOf, TableTypes } from "../schema/table-types.js";
import type { Portier } from "../session/portier.js";
import type { Finding } from "../session/session-options.js";

/** Who asks, as the application's own sign-in says. */
export interface Asking extends Omit<ActingOptions, "report"> {
  /** The key of a person, or null for a visitor. */
  readonly person: string | number | null;
}

export interface HttpOptions<T extends TableTypes = AnyTables> {
  readonly portier: Portier<T>;
  readonly connection: Connection;
  /** Told what would have been refused or hidden of the tables that the document observes; needed where it observes any. */
  readonly observe?: Observe;
  /**
   * Finds out who asks, from a token or the application's own session. A response of its own is sent as it is, such as one
   * to a page for signing in; undefined is answered by 401.
   */
  readonly who: (request: Request) => Asking | Response | undefined | Promise<Asking | Response | undefined>;
  /** The path under which the routes are: `/api`. Default: the root. */
  readonly base?: string;
  /** The tables that are served. Default: all. */
  readonly tables?: readonly TableOf<T>[];
  /** What a custom action does, inside of its transaction: `{ objects: { photograph: async (inside, record) => {...} } }`. */
  readonly acts?: Readonly<
    Record<string, Readonly<Record<string, (inside: Connection, record: Row) => Promise<void>>>>
  >;
  readonly limits?: Partial<HttpLimits>;
  /**
   * The `WWW-Authenticate` of an answer 401 (RFC 9110, 11.6.1): how the application signs its users in. Default: `Bearer`.
   */
  readonly challenge?: string;
  /** What the description of the interface says of the service. */
  readonly description?: HttpDescription;
  /** Told of faults and of bad data. */
  readonly report?: (finding: Finding) => void;
  /** Told of what went wrong besides; the answer says no more than that. */
  readonly onError?: (error: unknown, request: Request) => void;
}

/** Parts of an OpenAPI 3.1 document, as they are to stand in it. */
export interface HttpDescription {
  readonly info?: Readonly<Record<string, unknown>>;
  /** Default: the base. */
  readonly servers?: readonly Readonly<Record<string, unknown>>[];
  /** How requests are authenticated; any of them will do. Default: a bearer token. */
  readonly securitySchemes?: Readonly<Record<string, Readonly<Record<string, unknown>>>>;
}

export interface HttpLimits {
  /** Records of a page when nothing else is asked for. Default: 50. */
  readonly page: number;
  /** Records of a page at most. Default: 500. */
  readonly mostPage: number;
  /** Bytes of a body at most. Default: 1 MiB. */
  readonly body: number;
  /** Records of a bulk change or an import at most. Default: 1,000. */
  readonly many: number;
}

export const defaultLimits: HttpLimits = { page: 50, mostPage: 500, body: 1_048_576, many: 1_000 };
