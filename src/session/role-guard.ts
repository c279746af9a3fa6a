import type { Row, Source } from "../conditions/source.js";
import type { Field, Table } from "../schema/schema.js";
import type { Refusal } from "./change-result.js";
import type { StoredWrite } from "./overlay.js";

/** What a session knows of the records that roles come from. */
export interface RoleGuard {
  /** The fields of a table that bear roles; undefined for a table that has none. */
  bears(table: string): ReadonlySet<Field> | undefined;
  /** Why a change of who holds what is refused, as a code; undefined where it is not. */
  refusal(write: StoredWrite, source: Source | undefined): string | undefined;
}

/** It says no more than that: who else holds what may be hidden. */
const message = "This changes who holds a role, and that is not yours to do here.";

/**
 * The refusals of a change to records that roles come from, of the fields that bear them or of the act as a whole; none for
 * any other change. `changed`: the fields that are given.
 */
export function roleRefusals(
  guard: RoleGuard | undefined,
  source: Source | undefined,
  table: Table,
  changed: readonly Field[],
  before: Row | undefined,
  makeAfter: () => Row | undefined,
): readonly Refusal[] {
  const bearing = guard?.bears(table.name);
  if (guard === undefined || bearing === undefined) return none;
  const touched = changed.filter((field) => bearing.has(field));
  const after = makeAfter();
  if (touched.length === 0 && before !== undefined && after !== undefined) return none;
  const cause = guard.refusal({ table, before, after }, source);
  if (cause === undefined) return none;
  if (touched.length === 0) return [{ reason: "role-change", cause, message }];
  return touched.map(({ name }) => ({ field: name, reason: "role-change" as const, cause, message }));
}

const none: readonly never[] = Object.freeze([]);
