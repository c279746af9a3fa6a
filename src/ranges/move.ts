import { movedOut, moveRange, parseRange, printRange, type SheetChange } from "../rules/ranges.js";
import type { DocumentInput, ExtentInput, ExtentsInput, RuleInput, TableInput } from "../schema/document.js";
import { isCells, textsOf, type WrittenCells } from "./cells.js";

/** A range of which nothing is left after a change, or the part of one that a move took out of it. */
export interface LostRange {
  /** As it was. */
  readonly range: string;
  /** Its name in the table, or the address of the rule that spoke of it. */
  readonly of: string;
}

/** A document after rows or columns of one of its grids have changed, and what was lost by that. */
export interface MovedRanges {
  readonly document: DocumentInput;
  /**
   * Ranges that are gone, and cells that a move took out of one: they are not protected, or permitted, any more. Where a
   * rule is left without any range, it is gone as well: what it protected is not there.
   */
  readonly lost: readonly LostRange[];
}

/**
 * Moves the ranges of a table as a spreadsheet does when rows or columns are inserted, deleted or moved. The document
 * that is given stays as it is; the parts that do not change are shared with the new one. Which fields are columns is
 * for the application to change. Ranges that cannot be read are left alone: `compile` reports them.
 *
 * @example
 * const { document: after, lost } = moveRanges(document, "plan", { kind: "insert", of: "rows", at: 3, count: 1 });
 * // the rule on A1:F9 is now on A1:F10
 */
export function moveRanges(document: DocumentInput, table: string, change: SheetChange): MovedRanges {
  const before = document.tables[table] as TableInput | undefined;
  if (before?.grid === undefined) return { document, lost: [] };
  const lost: LostRange[] = [];
  const ranges: Record<string, string> = {};
  for (const [name, range] of Object.entries(before.ranges ?? {})) {
    const moved = moveText(range, change, (part) => lost.push({ range: part, of: name }));
    if (moved !== undefined) ranges[name] = moved;
  }
  const rules: Record<string, RuleInput> = {};
  for (const [name, rule] of Object.entries(before.rules ?? {})) {
    const moved = moveRule(rule, `${table}/${name}`, ranges, before.ranges ?? {}, change, lost);
    if (moved !== undefined) rules[name] = moved;
  }
  const after: TableInput = {
    ...before,
    ...(before.ranges === undefined ? {} : { ranges }),
    ...(before.rules === undefined ? {} : { rules }),
  };
  return { document: { ...document, tables: { ...document.tables, [table]: after } }, lost };
}

const effects = ["permit", "deny", "reserve", "confirm"] as const;

function moveRule(
  rule: RuleInput,
  address: string,
  named: Readonly<Record<string, string>>,
  namedBefore: Readonly<Record<string, string>>,
  change: SheetChange,
  lost: LostRange[],
): RuleInput | undefined {
  const effect = effects.find((name) => rule[name] !== undefined);
  const extents = effect && rule[effect];
  if (effect === undefined || extents === undefined) return rule;
  const keep = (text: string): string | undefined => {
    if (Object.hasOwn(namedBefore, text)) return Object.hasOwn(named, text) ? text : undefined;
    return moveText(text, change, (part) => lost.push({ range: part, of: address }));
  };
  const moved: Record<string, ExtentInput> = {};
  for (const [action, extent] of Object.entries(extents)) {
    const kept = isCells(extent) ? moveCells(extent, keep) : extent;
    if (kept !== undefined) moved[action] = kept;
  }
  return Object.keys(moved).length === 0 ? undefined : { ...rule, [effect]: moved as ExtentsInput };
}

function moveCells(extent: WrittenCells, keep: (text: string) => string | undefined): WrittenCells | undefined {
  const cells = textsOf(extent.cells)
    .map(keep)
    .filter((text) => text !== undefined);
  const except = textsOf(extent.except)
    .map(keep)
    .filter((text) => text !== undefined);
  if (cells.length === 0) return undefined;
  const alike = (texts: readonly string[], written: unknown) =>
    typeof written === "string" ? (texts[0] ?? "") : texts;
  return {
    cells: alike(cells, extent.cells),
    ...(except.length === 0 ? {} : { except: alike(except, extent.except) }),
  };
}

/**
 * The moved range, the text itself where it is not a range, or undefined where nothing is left. `lose` is told of all of it,
 * or of what was moved out.
 */
function moveText(text: string, change: SheetChange, lose: (part: string) => void): string | undefined {
  const range = parseRange(text);
  if (range === undefined) return text;
  const moved = moveRange(range, change);
  const out = movedOut(range, change);
  if (moved === undefined) lose(text);
  else if (out !== undefined) lose(printRange(out));
  return moved && printRange(moved);
}
