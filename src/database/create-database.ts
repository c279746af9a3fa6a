import type { AnyDocument, DocumentTypes, PersonOf, RequestOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { type IdentityOrKey, identityOf } from "../session/identity.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import type { Diagnostic } from "../session/session-options.js";
import type { UserMessages } from "../session/user-messages.js";
import type { Connection } from "./connection.js";
import { checkObserving, type Observe } from "./observing.js";
import { Remembered } from "./remembered.js";
import { Replica, type ReplicaOptions } from "./replica.js";
import { versionOf } from "./state.js";
import { UserDatabase } from "./user-database.js";

/**
 * A document's tables as a database holds them, under the names that `source` and `column` give.
 *
 * @throws PortierError (`wrong-call`) where the document observes a table and nobody is told of it.
 *
 * @example
 * const database = createDatabase(portier, pgConnection(pool));
 * const outcome = await database.as("s-003").edit("objects", "BM-SH-0001", { label: "Rung." });
 * if (!outcome.accepted) console.log(outcome.refusals);
 */
export function createDatabase<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  connection: Connection,
  { observe, onDiagnostic, replica: copy }: DatabaseOptions = {},
): Database<T> {
  const observing = checkObserving(portier.schema, observe);
  const remembered = new Remembered();
  const replica = copy && new Replica(connection, copy, internals(portier).ruleset);
  return {
    version: async () => String(await versionOf(connection)),
    as: (who, { messages, minVersion } = {}) =>
      new UserDatabase(portier, connection, {
        identity: identityOf(who),
        remembered,
        onDiagnostic,
        messages,
        replica,
        minVersion: versionGiven(minVersion),
        observe: observing,
      }),
  };
}

/** How a database is opened. */
export interface DatabaseOptions {
  /**
   * Told what would have been refused or hidden of the tables that the document observes (`observe: true`). Needed where it
   * observes any. It is called before a change is committed, once more where that is begun anew; what it throws undoes it.
   */
  readonly observe?: Observe;
  /** Called for faults and bad data. Default: the first of them is a warning on the console. */
  readonly onDiagnostic?: ((diagnostic: Diagnostic) => void) | undefined;
  /** A copy of the database from which is read. Changes are made, and judged, on the primary alone. */
  readonly replica?: ReplicaOptions;
}

/** The tables of a document in a database. */
export interface Database<T extends DocumentTypes = AnyDocument> {
  /**
   * The database as one person sees and changes it: their key (null for a visitor), or more of who they are. `messages`
   * replaces what they read of a refused change (default: English).
   */
  as(
    who: IdentityOrKey<PersonOf<T>, RequestOf<T>>,
    options?: {
      readonly messages?: Partial<UserMessages> | undefined;
      /** A version that what is read from a copy is not older than, whatever `maxAge` says: see {@link Database.version}. */
      readonly minVersion?: string | undefined;
    },
  ): UserDatabase<T>;
  /**
   * How many changes of what anybody may do the database has seen. Asked after a change of roles, it names a state in which
   * that counts. Needs the statements of {@link replicaMigration}, or of `storeMigration`.
   */
  version(): Promise<string>;
}

/** @throws PortierError (`wrong-call`) for what is no version. */
function versionGiven(text: string | undefined): bigint {
  if (text === undefined) return 0n;
  if (/^\d+$/.test(text)) return BigInt(text);
  throw portierError("wrong-call", { what: `this is no version: ${text}`, hint: "give what database.version() told" });
}
