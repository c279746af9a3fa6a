import { movedOut, moveRange, parseRange, printRange, type SheetChange } from "../rules/ranges.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import type { Table } from "../schema/schema.js";
import { timestampOf } from "../schema/types/timestamp.js";
import type { StoredWrite } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import { entryOf } from "./audit-entry.js";
import { newStamp } from "./protection-writes.js";
import { type Protection, protectionsIn } from "./protections.js";
import type { RoleStore } from "./role-store.js";

/** A protection of which nothing is left after rows or columns have changed, or the cells that a move took out of one. */
export interface LostCells {
  /** The id of the protection. */
  readonly protection: string;
  /** As they were, in A1 notation. */
  readonly range: string;
  readonly note: string | null;
}

/** What came of moving protections. */
export interface MovedProtections {
  /** False where nothing was done, as something would be lost. */
  readonly isDone: boolean;
  /** What is not protected any more, or would not be. */
  readonly lost: readonly LostCells[];
}

/** In whose name protections are moved. */
export interface MoveOptions {
  /** The key of the person by whom rows or columns are changed, for the record of what was done; null for a program. */
  readonly by?: string | null;
  /** The key of who acts for that person, for the record. Default: they act themselves. */
  readonly actedBy?: string | undefined;
  /** Whether protections may be lost with the cells that go. Default: nothing is done, and what would be lost is told. */
  readonly acceptLost?: boolean;
}

/**
 * Moves what is protected in a table as ranges of a spreadsheet move, when rows or columns are inserted, deleted or moved by
 * other means than `gridRows`: columns, say, by a migration that adds a field. In a transaction that is under way, with
 * `databaseStore(portier, pgTransaction(client))`.
 *
 * @example
 * await moveProtections(portier, store, "plan", { kind: "insert", of: "columns", at: 2, count: 1 });
 */
export function moveProtections<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  store: RoleStore,
  table: TableOf<T>,
  change: SheetChange,
  { by = null, actedBy, acceptLost = false }: MoveOptions = {},
): Promise<MovedProtections> {
  const kept = portier.schema.kept?.protections;
  return store.change(async (state) => {
    const protections = await state.read((source) => protectionsIn(portier, source, table));
    const { writes, lost } = kept === undefined ? { writes: [], lost: [] } : moved(kept, protections, change);
    if (lost.length > 0 && !acceptLost) return { isDone: false, lost };
    const { kind, of, at, count } = change;
    const details = [
      `${table}: ${kind} ${count} ${of} at ${at}${change.kind === "move" ? ` to ${change.to}` : ""}`,
      ...lost.map(({ protection, range }) => `lost ${range} of ${protection}`),
    ];
    const facts = {
      kind: "move-cells",
      at: timestampOf(new Date()) as string,
      by,
      actedBy,
      person: null,
      details,
    } as const;
    // Where each went follows from what was moved: only what is gone is kept as it was.
    const gone = writes.filter(({ after }) => after === undefined);
    if (writes.length > 0) await state.write(writes, [entryOf(facts, gone)]);
    return { isDone: true, lost };
  });
}

function moved(kept: Table, protections: readonly Protection[], change: SheetChange) {
  const lost: LostCells[] = [];
  const writes = protections.flatMap((before): StoredWrite[] => {
    const lose = (range: string) => lost.push({ protection: before.id, range, note: before.note });
    const ranges = before.ranges.flatMap((text) => movedText(text, change, lose) ?? []);
    const except = (before.except ?? []).flatMap((text) => movedText(text, change) ?? []);
    const isSame = sameTexts(ranges, before.ranges) && sameTexts(except, before.except ?? []);
    if (isSame) return [];
    const after = { ...before, ranges, except: except.length === 0 ? null : except, stamp: newStamp() };
    return [{ table: kept, before: { ...before }, after: ranges.length === 0 ? undefined : after }];
  });
  return { writes, lost };
}

/** Undefined where nothing is left. What cannot be read stays as it is: sessions tell of it. */
function movedText(text: string, change: SheetChange, lose?: (range: string) => void): string | undefined {
  const range = parseRange(text);
  if (range === undefined) return text;
  const moved = moveRange(range, change);
  const out = movedOut(range, change);
  if (moved === undefined) lose?.(text);
  else if (out !== undefined) lose?.(printRange(out));
  return moved && printRange(moved);
}

function sameTexts(one: readonly string[], other: readonly string[]): boolean {
  return one.length === other.length && one.every((text, index) => text === other[index]);
}
