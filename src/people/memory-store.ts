import type { Row, Source } from "../conditions/source.js";
import { inOrder } from "../database/in-order.js";
import type { Portier } from "../session/portier.js";
import type { Assignment, Delegation } from "../session/roles/assignment.js";
import { ChainCheck, linkAfter } from "./audit-chain.js";
import type { AuditEntry } from "./audit-entry.js";
import { applied, emptyState, type KeptState, keptOf, sourceWith } from "./kept-state.js";
import type { Protection } from "./protections.js";
import { isAbout, type RoleStore } from "./role-store.js";
import { Watchers } from "./watchers.js";

/** What a store in memory begins with. */
export interface MemoryStoreOptions {
  /** The application's own records: people, and whatever rules read. */
  readonly source: Source;
  /** What is assigned at the start. Default: nothing. */
  readonly assignments?: readonly Assignment[];
  /** Who acts for whom at the start. Default: nobody. */
  readonly delegations?: readonly Delegation[];
  /** Which cells are protected at the start. Default: none. */
  readonly protections?: readonly Protection[];
}

/** Who holds what, in this process alone; for tests and small programs. */
export interface MemoryStore extends RoleStore {
  /** The state as it is now, for `portier.session({ person, source: store.source })`. It does not change any more. */
  readonly source: Source;
}

/**
 * Keeps who holds what in memory.
 *
 * @throws PortierError (`wrong-call`) for a document that does not say `people: { assignments: true }`.
 */
export function memoryStore(portier: Portier, options: MemoryStoreOptions): MemoryStore {
  const kept = keptOf(portier);
  const rows = (list: readonly object[] | undefined) => (list ?? []).map((one) => ({ ...one }) as Row);
  let state: KeptState = {
    ...emptyState,
    assignments: rows(options.assignments),
    delegations: rows(options.delegations),
    protections: rows(options.protections),
  };
  let source = sourceWith(options.source, portier.schema, state);
  const entries: AuditEntry[] = [];
  const watchers = new Watchers();
  const turn = inOrder();
  return {
    keepsPersons: false,
    get source() {
      return source;
    },
    read: async (question) => question(source),
    change: (work) =>
      turn(() =>
        work({
          read: async (question) => question(source),
          write: async (writes, made) => {
            state = applied(state, kept, writes);
            source = sourceWith(options.source, portier.schema, state);
            entries.push(...made);
            watchers.tell();
          },
        }),
      ),
    auditLog: async ({ person, limit = 100 } = {}) =>
      entries
        .filter((entry) => isAbout(entry, person))
        .slice(-limit)
        .reverse(),
    verifyAuditLog: async (options) => {
      const check = new ChainCheck(options);
      for (const entry of entries) {
        const content = JSON.stringify(entry);
        await check.takes(content, await linkAfter(check.result("").head, content));
      }
      return check.result(check.result("").head);
    },
    watch: async (onChange) => {
      const stop = watchers.add(onChange);
      return async () => {
        stop();
      };
    },
  };
}
