import type { Row } from "../conditions/source.js";
import type { Connection } from "../database/connection.js";
import type { Observe } from "../database/observing.js";
import type { ReplicaOptions } from "../database/replica.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import type { Identity } from "../session/identity.js";
import type { Portier } from "../session/portier.js";
import type { Diagnostic } from "../session/session-options.js";
import type { UserMessages } from "../session/user-messages.js";

/** How a document's tables are served over HTTP. */
export interface HttpOptions<T extends DocumentTypes = AnyDocument> {
  /** The compiled rules. */
  readonly portier: Portier<T>;
  /** The database with the tables of the document. */
  readonly connection: Connection;
  /** A copy of the database from which is read; a question that it is too far behind for is answered by 503. */
  readonly replica?: ReplicaOptions;
  /** Told what would have been refused or hidden of the tables that the document observes; needed where it observes any. */
  readonly observe?: Observe;
  /**
   * Says who the current user is, from a token or the application's own session: `{ person: null }` for a visitor. A response
   * of its own is sent as it is, such as a redirect to a page for signing in; undefined is answered by 401.
   */
  readonly authenticate: (
    request: Request,
  ) => Identity | Response | undefined | Promise<Identity | Response | undefined>;
  /** The path under which the routes are: `/api`. Default: the root. */
  readonly base?: string;
  /** The tables that are served. Default: all. */
  readonly tables?: readonly TableOf<T>[];
  /** What a custom action does, inside of its transaction: `{ objects: { photograph: async (inside, record) => {...} } }`. */
  readonly actions?: Readonly<
    Record<string, Readonly<Record<string, (inside: Connection, record: Row) => Promise<void>>>>
  >;
  /** What one request may ask for; those left out keep their defaults. */
  readonly limits?: Partial<HttpLimits>;
  /**
   * The `WWW-Authenticate` of an answer 401 (RFC 9110, 11.6.1): how the application signs its users in. Default: `Bearer`.
   */
  readonly challenge?: string;
  /** What the description of the interface says of the service. */
  readonly description?: HttpDescription;
  /** What end users read of a refused change, such as in the language of the request. Default: English. */
  readonly messages?: (request: Request) => Partial<UserMessages> | undefined;
  /** Called for faults and bad data. */
  readonly onDiagnostic?: (diagnostic: Diagnostic) => void;
  /** Told of what went wrong besides; the answer says no more than that. */
  readonly onError?: (error: unknown, request: Request) => void;
}

/** Parts of an OpenAPI 3.1 document, as they are to stand in it. */
export interface HttpDescription {
  /** The `info` object of OpenAPI: title, version and so on. Default: a title of our own, version 1. */
  readonly info?: Readonly<Record<string, unknown>>;
  /** Default: the base. */
  readonly servers?: readonly Readonly<Record<string, unknown>>[];
  /** How requests are authenticated; any of them will do. Default: a bearer token. */
  readonly securitySchemes?: Readonly<Record<string, Readonly<Record<string, unknown>>>>;
}

/** Bounds of requests. */
export interface HttpLimits {
  /** Records of a page, unless the request says otherwise. Default: 50. */
  readonly pageSize: number;
  /** Records of a page at most. Default: 500. */
  readonly maxPageSize: number;
  /** Bytes of a body at most. Default: 1 MiB. */
  readonly maxBodyBytes: number;
  /** Records of a bulk change or an import at most. Default: 1,000. */
  readonly maxBatch: number;
}

export const defaultLimits: HttpLimits = { pageSize: 50, maxPageSize: 500, maxBodyBytes: 1_048_576, maxBatch: 1_000 };
