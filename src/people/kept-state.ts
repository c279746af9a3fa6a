import type { Row, Source } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { type KeptTables, keptTablesOf, type Schema, type Table } from "../schema/schema.js";
import { memorySource } from "../session/memory-source.js";
import type { StoredWrite } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";

/** What Portier keeps by itself, in memory. Immutable: a change makes a new one. */
export interface KeptState {
  readonly version: number;
  readonly assignments: readonly Row[];
  readonly delegations: readonly Row[];
  /** Frozen, as those of an unchanged state are not read again. */
  readonly protections: readonly Row[];
}

export const emptyState: KeptState = { version: 0, assignments: [], delegations: [], protections: [] };

export function keptOf({ schema }: Pick<Portier, "schema">): KeptTables {
  if (schema.kept !== undefined) return schema.kept;
  const what = "this document does not say that roles are assigned";
  throw portierError("wrong-call", { what, hint: 'add "assignments: true" to "people"' });
}

/** The state after some writes. */
export function applied(state: KeptState, kept: KeptTables, writes: readonly StoredWrite[]): KeptState {
  const rows = (own: readonly Row[], table: Table | undefined, made = (row: Row): Row => row) => {
    const here = writes.filter((write) => write.table === table);
    if (here.length === 0) return own;
    const gone = new Set(here.map(({ before }) => before?.["id"]));
    const added = here.flatMap(({ after }) => (after === undefined ? [] : [made(after)]));
    return [...own.filter(({ id }) => !gone.has(id)), ...added];
  };
  return {
    version: state.version + 1,
    assignments: rows(state.assignments, kept.assignments),
    delegations: rows(state.delegations, kept.delegations),
    protections: rows(state.protections, kept.protections, Object.freeze),
  };
}

/** An application's own records together with who holds what. */
export function sourceWith(own: Source, schema: Schema, state: KeptState): Source {
  const kept = memorySource(schema, {
    portier_assignments: state.assignments,
    portier_delegations: state.delegations,
    ...(schema.kept?.protections === undefined ? {} : { portier_protections: state.protections }),
  });
  const names = new Set(keptTablesOf(schema).map(({ name }) => name));
  const of = (table: string) => (names.has(table) ? kept : own);
  return {
    find: (table, key) => of(table).find(table, key),
    referring: (table, field, key) => {
      const found = of(table).referring;
      if (found === undefined)
        throw portierError("needs-source", { what: `the records of "${table}"`, method: "referring" });
      return found(table, field, key);
    },
    all: (table) => {
      const found = of(table).all;
      if (found === undefined) throw portierError("needs-source", { what: `all of "${table}"`, method: "all" });
      return found(table);
    },
  };
}
