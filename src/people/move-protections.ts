import { movedOut, moveRange, parseRange, printRange, type SheetChange } from "../rules/ranges.js";
import type { Table } from "../schema/schema.js";
import type { StoredWrite } from "../session/overlay.js";
import { newStamp } from "./protection-writes.js";
import type { Protection } from "./protections.js";

/** A protection of which nothing is left after rows or columns have changed, or the cells that a move took out of one. */
export interface LostCells {
  /** The id of the protection. */
  readonly protection: string;
  /** As they were, in A1 notation. */
  readonly range: string;
  readonly note: string | null;
}

export interface MovedProtections {
  readonly writes: readonly StoredWrite[];
  /** What is not protected any more. */
  readonly lost: readonly LostCells[];
}

/** Protections as they are after rows or columns of their grid have changed: they move as ranges of a spreadsheet do. */
export function movedProtections(
  kept: Table,
  protections: readonly Protection[],
  change: SheetChange,
): MovedProtections {
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
