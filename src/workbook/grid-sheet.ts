import type { Row } from "../conditions/source.js";
import type { ProtectionChange } from "../people/protections.js";
import { isPlace } from "../rules/cells.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { internals } from "../session/internals.js";
import type { Session } from "../session/session.js";
import { CellRuns } from "./cell-runs.js";
import type { SheetProtection } from "./sheet-protection.js";

/**
 * A grid's records as a sheet that is locked for one person where they may not edit it: for `writeSheetProtection`.
 *
 * @throws PortierError (`wrong-call`) for a table that is not a grid.
 */
export function lockedFor<T extends DocumentTypes = AnyDocument>(
  session: Session<T>,
  table: TableOf<T>,
  records: Iterable<object>,
): Omit<SheetProtection, "sheet"> {
  const { grid } = internals(session).plan.of(table).table;
  if (grid === undefined)
    throw portierError("wrong-call", { what: `"${table}" is not a grid`, hint: "name a table that is one" });
  const asked = session as unknown as Session;
  const open = new CellRuns();
  for (const record of records) {
    const row = (record as Row)[grid.position.name];
    if (!isPlace(row)) continue;
    for (const [index, field] of grid.columns.entries()) {
      if (asked.may("edit", table, record, field.name)) open.add(index + 1, row);
    }
  }
  return { isProtected: true, ranges: [], unlocked: open.ranges() };
}

/**
 * What protects the same cells here as a sheet does in a workbook: all that is locked is nobody's, and each named range is
 * for those in `to`. Nothing of it is made: preview each, and give it to `administrator.protect`.
 */
export function protectionsFromSheet(
  { sheet, isProtected, ranges, unlocked }: SheetProtection,
  table: string,
  to: readonly string[],
): Extract<ProtectionChange, { kind: "protect" }>[] {
  if (!isProtected) return [];
  const named = ranges
    .filter((one) => one.ranges.length > 0)
    .map((one) => ({ kind: "protect", table, ranges: one.ranges, to, note: one.name }) as const);
  const except = [...unlocked, ...ranges.flatMap((one) => one.ranges)];
  return [{ kind: "protect", table, ranges: ["A:"], except, to: [], note: `Locked in ${sheet}.` }, ...named];
}
