import { strFromU8, strToU8, unzipSync, type Zippable, zipSync } from "fflate";
import { portierError } from "../schema/problems.js";
import { attribute, tagsIn } from "./tags.js";

/** Bytes of the parts that are read, unpacked, at most: a small file can unfold to very much. */
const largest = 100_000_000;

/** The parts of a workbook that say what is protected in one of its sheets. */
export interface SheetParts {
  /** The name of the sheet. */
  readonly name: string;
  readonly sheetPath: string;
  readonly sheet: string;
  readonly stylesPath: string | undefined;
  readonly styles: string | undefined;
}

/** The text as it is known to who gave the file: what cannot be read is their file. */
export function badWorkbook(what: string) {
  return portierError("bad-workbook", { what });
}

/** Finds a sheet of a workbook (ISO/IEC 29500), by its name, else the first. */
export function sheetParts(bytes: Uint8Array, wanted: string | undefined): SheetParts {
  const names = new Set<string>();
  const first = unpacked(bytes, (name) => {
    names.add(name);
    return name.endsWith(".rels") || /(?:^|\/)workbook[^/]*\.xml$/.test(name);
  });
  const root = relations(first.get("_rels/.rels") ?? "", "");
  const workbookPath = [...root.values()].find(({ type }) => type === "officeDocument")?.target ?? "xl/workbook.xml";
  const workbook = first.get(workbookPath);
  if (workbook === undefined) throw badWorkbook("this is no XLSX workbook");
  const folder = workbookPath.slice(0, workbookPath.lastIndexOf("/") + 1);
  const links = relations(first.get(`${folder}_rels/${workbookPath.slice(folder.length)}.rels`) ?? "", folder);
  const sheets = [...tagsIn(workbook)].flatMap((one) => {
    const name = one.name === "sheet" && one.kind !== "end" ? attribute(one, "name") : undefined;
    const id = attribute(one, "[\\w]+:id") ?? "";
    return name === undefined ? [] : [{ name, path: links.get(id)?.target }];
  });
  const found = wanted === undefined ? sheets[0] : sheets.find(({ name }) => name === wanted);
  if (found?.path === undefined) {
    const there = sheets.map(({ name }) => `"${name}"`).join(", ");
    throw badWorkbook(
      wanted === undefined ? "this workbook has no sheet" : `it has no sheet "${wanted}"; there are ${there}`,
    );
  }
  const stylesPath = [...links.values()].find(({ type }) => type === "styles")?.target;
  const { path } = found;
  const parts = unpacked(bytes, (name) => name === path || name === stylesPath);
  const sheet = parts.get(path);
  if (sheet === undefined) throw badWorkbook(`the sheet "${found.name}" is not in the file`);
  return { name: found.name, sheetPath: path, sheet, stylesPath, styles: parts.get(stylesPath ?? "") };
}

/** The workbook with other texts for some of its parts. */
export function withParts(bytes: Uint8Array, changed: ReadonlyMap<string, string>): Uint8Array {
  const all = unzipSync(bytes, { filter: bounded(() => true) });
  const packed: Zippable = {};
  for (const [name, content] of Object.entries(all)) {
    const text = changed.get(name);
    packed[name] = text === undefined ? content : strToU8(text);
  }
  return zipSync(packed);
}

function unpacked(bytes: Uint8Array, isWanted: (name: string) => boolean): Map<string, string> {
  try {
    const found = unzipSync(bytes, { filter: bounded(isWanted) });
    return new Map(Object.entries(found).map(([name, content]) => [name, strFromU8(content)]));
  } catch (error) {
    if (error instanceof TooLarge) throw badWorkbook("it unfolds to more than is taken in");
    throw badWorkbook("this is no XLSX workbook");
  }
}

class TooLarge extends Error {}

/** A part is unpacked to no more than the file says; what it says of all of them is looked at before. */
function bounded(isWanted: (name: string) => boolean) {
  let size = 0;
  return ({ name, originalSize }: { readonly name: string; readonly originalSize: number }): boolean => {
    if (!isWanted(name)) return false;
    size += originalSize;
    if (size > largest) throw new TooLarge();
    return true;
  };
}

interface Relation {
  /** The last part of its type. */
  readonly type: string;
  readonly target: string;
}

function relations(xml: string, folder: string): Map<string, Relation> {
  const found = new Map<string, Relation>();
  for (const one of tagsIn(xml)) {
    const [id, type, target] = ["Id", "Type", "Target"].map((name) => attribute(one, name));
    if (one.name !== "Relationship" || id === undefined || target === undefined) continue;
    const path = target.startsWith("/") ? target.slice(1) : resolved(`${folder}${target}`);
    found.set(id, { type: (type ?? "").slice((type ?? "").lastIndexOf("/") + 1), target: path });
  }
  return found;
}

function resolved(path: string): string {
  const steps: string[] = [];
  for (const step of path.split("/")) {
    if (step === "..") steps.pop();
    else if (step !== ".") steps.push(step);
  }
  return steps.join("/");
}
