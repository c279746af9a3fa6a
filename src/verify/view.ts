import type { Row } from "../conditions/source.js";
import type { Table } from "../schema/schema.js";
import type { Session } from "../session/session.js";

/** One field of a record as a person meets it. A hidden one carries no value, so none can be shown by mistake. */
export interface CellView {
  readonly field: string;
  readonly seen: boolean;
  readonly value?: unknown;
  readonly editable: boolean;
  /** Editable once something is confirmed. */
  readonly confirm: boolean;
}

export interface RecordView {
  readonly cells: readonly CellView[];
  readonly deletable: boolean;
}

/**
 * A record as a person meets it, listed or opened: what they see, and what they may try to edit. Undefined for a record
 * that does not exist for them.
 */
export function recordView(session: Session, table: Table, row: Row): RecordView | undefined {
  const listed = session.mask(table.name, row, "list");
  const opened = session.mask(table.name, row, "view");
  if (listed === undefined && opened === undefined) return undefined;
  const seen = { ...listed, ...opened };
  const cells = table.fields.map(({ name }): CellView => {
    const { permitted, confirm } = session.decide("edit", table.name, row, name);
    const cell = { field: name, editable: permitted, confirm: confirm !== undefined };
    return Object.hasOwn(seen, name) ? { ...cell, seen: true, value: seen[name] } : { ...cell, seen: false };
  });
  return { cells, deletable: session.may("delete", table.name, row) };
}
