import type { Source } from "../conditions/source.js";
import type { StoredWrite } from "../session/overlay.js";
import type { AuditVerification, VerifyOptions } from "./audit-chain.js";
import type { AuditEntry } from "./audit-entry.js";

/** Where it is kept who holds what, and what was done about it. `memoryStore` and `databaseStore` make one. */
export interface RoleStore {
  /** Whether persons' own records are written along with a change; otherwise they are changed where they are kept. */
  readonly keepsPersons: boolean;
  /**
   * Asks something of one consistent state, in which a session can be opened. `question` is run again for as long as it
   * reads what has not been fetched, so it must do nothing but ask.
   */
  read<R>(question: (source: Source) => R): Promise<R>;
  /** Runs one change after the other, also of other processes: what is read inside stays as it is until the end. */
  change<R>(work: (inside: StoreChange) => Promise<R>): Promise<R>;
  /** The audit log, latest first. */
  auditLog(options?: AuditQuery): Promise<readonly AuditEntry[]>;
  /** Works the digests of the audit log out again, and says whether an entry was changed or removed. */
  verifyAuditLog(options?: VerifyOptions): Promise<AuditVerification>;
  /** Tells of every change: of this process at once, of others within a second. Gives what ends it. */
  watch(onChange: () => void): Promise<() => Promise<void>>;
}

/** A change of a store, in one transaction. */
export interface StoreChange {
  /** Asks the people and assignments as they are in this change. `question` may be called again. */
  read<R>(question: (source: Source) => R): Promise<R>;
  /** Writes records, and what is kept of it: both or nothing. */
  write(writes: readonly StoredWrite[], entries: readonly AuditEntry[]): Promise<void>;
}

/** Which entries of the audit log are read. */
export interface AuditQuery {
  /** Those about this person, or done by them. */
  readonly person?: string;
  /** At most so many. Default: 100. */
  readonly limit?: number;
}

/** Whether an entry is one that was asked for. */
export function isAbout({ person, by, actedBy }: AuditEntry, wanted: string | undefined): boolean {
  return wanted === undefined || person === wanted || by === wanted || actedBy === wanted;
}
