import { type CellRange, columnNumber, parseRange, printRange } from "../rules/ranges.js";
import { CellRuns } from "./cell-runs.js";
import { badWorkbook, type SheetParts, sheetParts, withParts } from "./parts.js";
import { attribute, escaped, isOn, type Tag, tagsIn, withAttribute } from "./tags.js";

/** What a workbook says of the protection of one of its sheets. */
export interface SheetProtection {
  /** The name of the sheet. */
  readonly sheet: string;
  /** Whether the sheet is protected. Where it is not, nothing of it is locked. */
  readonly isProtected: boolean;
  /** Cells that can be edited although the sheet is protected, by a name (`protectedRange`). */
  readonly ranges: readonly NamedCells[];
  /** Cells that are not locked, in A1 notation; of those that stand in the file. */
  readonly unlocked: readonly string[];
}

/** Named ranges of a sheet. */
export interface NamedCells {
  readonly name: string;
  /** In A1 notation. */
  readonly ranges: readonly string[];
}

/** Which sheet of a workbook. */
export interface SheetOptions {
  /** The name of the sheet. Default: the first. */
  readonly sheet?: string;
}

/** The last row and column that a sheet of a workbook has: a range down to, or across to it is open there. */
const lastRow = 1_048_576;
const lastColumn = 16_384;

/**
 * Reads what is protected in a sheet of an XLSX workbook (Office Open XML, ISO/IEC 29500-1, 18.3.1.72 and 18.8.33): its
 * protected ranges, and the cells that are not locked.
 *
 * @throws PortierError (`bad-workbook`) for a file that is none, or unfolds to more than 100 MB.
 */
export function readSheetProtection(workbook: Uint8Array, { sheet: wanted }: SheetOptions = {}): SheetProtection {
  const { name, sheet, styles } = sheetParts(workbook, wanted);
  const locks = lockedStyles(styles ?? "");
  const ranges: NamedCells[] = [];
  const unlocked = new CellRuns();
  let isProtected = false;
  for (const one of tagsIn(sheet)) {
    if (one.kind === "end") continue;
    if (one.name === "sheetProtection") isProtected = isOn(attribute(one, "sheet"));
    if (one.name === "protectedRange") ranges.push(namedCells(one));
    if (one.name !== "c" || locks[Number(attribute(one, "s") ?? 0)] !== false) continue;
    const place = placeOf(one);
    if (place !== undefined) unlocked.add(place.left, place.top);
  }
  return { sheet: name, isProtected, ranges, unlocked: unlocked.ranges() };
}

/**
 * A workbook with another protection of one of its sheets: of the cells in the file those are locked that are in neither
 * `unlocked` nor a named range, and the named ranges can be edited beyond them. Everything else of the file stays as it is.
 *
 * @throws PortierError (`bad-workbook`) for a file that is none, and for cells that are no A1 notation.
 */
export function writeSheetProtection(
  workbook: Uint8Array,
  { isProtected, ranges, unlocked }: Omit<SheetProtection, "sheet">,
  { sheet: wanted }: SheetOptions = {},
): Uint8Array {
  const parts = sheetParts(workbook, wanted);
  const { stylesPath, styles } = parts;
  if (stylesPath === undefined || styles === undefined) throw badWorkbook("this workbook has no styles");
  const open = [...unlocked, ...ranges.flatMap((one) => one.ranges)].map(readCells);
  const twins = new StyleTwins(styles);
  const sheet = withRanges(withLocks(parts, open, twins), isProtected, ranges);
  return withParts(
    workbook,
    new Map([
      [parts.sheetPath, sheet],
      [stylesPath, twins.text()],
    ]),
  );
}

function readCells(text: string): CellRange {
  const range = parseRange(text);
  if (range === undefined) throw badWorkbook(`"${text}" is not a cell range`);
  return range;
}

/** Several with blanks between; down to the last row there is, it is open downwards. */
function namedCells(one: Tag): NamedCells {
  const written = (attribute(one, "sqref") ?? "").split(/\s+/).filter((text) => text !== "");
  const cells = written.flatMap((text) => {
    const range = parseRange(text);
    if (range === undefined) return [];
    const bottom = range.bottom >= lastRow ? Number.POSITIVE_INFINITY : range.bottom;
    const right = range.right >= lastColumn ? Number.POSITIVE_INFINITY : range.right;
    return [printRange({ ...range, bottom, right })];
  });
  return { name: attribute(one, "name") ?? "", ranges: cells };
}

function placeOf(one: Tag): CellRange | undefined {
  const found = /^([A-Z]{1,3})(\d{1,10})$/.exec(attribute(one, "r") ?? "");
  if (found === null) return undefined;
  const [column, row] = [columnNumber(found[1] ?? ""), Number(found[2])];
  return { left: column, right: column, top: row, bottom: row };
}

/** Of each cell format whether its cells are locked: they are, unless it says otherwise. */
function lockedStyles(styles: string): boolean[] {
  return new StyleTwins(styles).locks;
}

/** The cell formats of a workbook (`cellXfs`), with another one for each that is needed locked, or not. */
class StyleTwins {
  readonly locks: boolean[] = [];
  readonly #styles: string;
  readonly #formats: string[] = [];
  readonly #added: string[] = [];
  readonly #twins = new Map<string, number>();
  #list: Tag | undefined;
  #end = 0;

  constructor(styles: string) {
    this.#styles = styles;
    let start: Tag | undefined;
    for (const one of tagsIn(styles)) {
      if (one.name === "cellXfs") {
        if (one.kind === "end") this.#end = one.from;
        else this.#list = one;
        if (one.kind !== "start") break;
      } else if (this.#list !== undefined && one.name === "xf") {
        if (one.kind === "start") start = one;
        else this.#take(styles.slice(start?.from ?? one.from, one.to));
        if (one.kind !== "start") start = undefined;
      }
    }
  }

  /** The number of a format that is like another one, and locked or not. */
  like(number: number, isLocked: boolean): number {
    if ((this.locks[number] ?? true) === isLocked) return number;
    const id = `${number} ${isLocked}`;
    const known = this.#twins.get(id);
    if (known !== undefined) return known;
    const made = this.#formats.length + this.#added.length;
    this.#added.push(withLock(this.#formats[number] ?? "<xf/>", isLocked));
    this.#twins.set(id, made);
    return made;
  }

  text(): string {
    const list = this.#list;
    if (list === undefined || list.kind !== "start") throw badWorkbook("this workbook has no cell formats");
    const count = String(this.#formats.length + this.#added.length);
    const name = list.prefix === "" ? list.name : `${list.prefix}:${list.name}`;
    const head = `<${name}${withAttribute(list.attributes, "count", count)}>`;
    const styles = this.#styles;
    return (
      styles.slice(0, list.from) +
      head +
      styles.slice(list.to, this.#end) +
      this.#added.join("") +
      styles.slice(this.#end)
    );
  }

  #take(text: string): void {
    const protection = [...tagsIn(text)].find((one) => one.name === "protection" && one.kind !== "end");
    const locked = protection && attribute(protection, "locked");
    this.locks.push(locked === undefined || isOn(locked));
    this.#formats.push(text);
  }
}

function withLock(format: string, isLocked: boolean): string {
  const [head] = [...tagsIn(format)];
  if (head === undefined) throw badWorkbook("a cell format cannot be read");
  const prefix = head.prefix === "" ? "" : `${head.prefix}:`;
  const inner = head.kind === "empty" ? "" : format.slice(head.to, format.lastIndexOf("</"));
  const without = inner.replace(
    /<(?:[\w.-]+:)?protection\b[^>]*\/>|<((?:[\w.-]+:)?protection)\b[^>]*>[\s\S]*?<\/\1>/,
    "",
  );
  const attributes = withAttribute(head.attributes, "applyProtection", "1");
  // Alignment stands before it, extensions behind.
  const at = /<(?:[\w.-]+:)?extLst\b/.exec(without)?.index ?? without.length;
  const protection = `<${prefix}protection locked="${isLocked ? 1 : 0}"/>`;
  return `<${prefix}xf${attributes}>${without.slice(0, at)}${protection}${without.slice(at)}</${prefix}xf>`;
}

function withLocks({ sheet }: SheetParts, open: readonly CellRange[], twins: StyleTwins): string {
  const pieces: string[] = [];
  let from = 0;
  for (const one of tagsIn(sheet)) {
    if (one.name !== "c" || one.kind === "end") continue;
    const place = placeOf(one);
    if (place === undefined) continue;
    const isOpen = open.some(
      (range) =>
        range.left <= place.left && place.left <= range.right && range.top <= place.top && place.top <= range.bottom,
    );
    const number = Number(attribute(one, "s") ?? 0);
    const wanted = twins.like(number, !isOpen);
    if (wanted === number) continue;
    const name = one.prefix === "" ? one.name : `${one.prefix}:${one.name}`;
    const attributes = withAttribute(one.attributes, "s", String(wanted));
    pieces.push(sheet.slice(from, one.from), `<${name}${attributes}${one.kind === "empty" ? "/" : ""}>`);
    from = one.to;
  }
  return pieces.join("") + sheet.slice(from);
}

/** Puts them where the standard has them: behind the cells, before everything else. */
function withRanges(sheet: string, isProtected: boolean, ranges: readonly NamedCells[]): string {
  let text = sheet;
  for (const name of ["sheetProtection", "protectedRanges"]) text = without(text, name);
  const after = [...tagsIn(text)].findLast(
    ({ name, kind }) => ["sheetData", "sheetCalcPr"].includes(name) && kind !== "start",
  );
  if (after === undefined) throw badWorkbook("this sheet has no cells");
  const prefix = after.prefix === "" ? "" : `${after.prefix}:`;
  const items = ranges
    .filter((one) => one.ranges.length > 0)
    .map((one) => `<${prefix}protectedRange sqref="${one.ranges.map(closed).join(" ")}" name="${escaped(one.name)}"/>`);
  const head = isProtected ? `<${prefix}sheetProtection sheet="1" objects="1" scenarios="1"/>` : "";
  const list = items.length === 0 ? "" : `<${prefix}protectedRanges>${items.join("")}</${prefix}protectedRanges>`;
  return text.slice(0, after.to) + head + list + text.slice(after.to);
}

/** A range as workbooks have it, which know no open ones. */
function closed(text: string): string {
  const range = readCells(text);
  const column = (number: number) => Math.min(number, lastColumn);
  return printRange({ ...range, right: column(range.right), bottom: Math.min(range.bottom, lastRow) });
}

function without(text: string, name: string): string {
  const tags = [...tagsIn(text)];
  const first = tags.find((one) => one.name === name && one.kind !== "end");
  if (first === undefined) return text;
  const last = first.kind === "empty" ? first : tags.find((one) => one.name === name && one.kind === "end");
  return last === undefined ? text : text.slice(0, first.from) + text.slice(last.to);
}
