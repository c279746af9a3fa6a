import {
  isMap,
  isScalar,
  isSeq,
  type Node,
  type Pair,
  parseDocument as parseYaml,
  stringify,
  type YAMLMap,
  type YAMLSeq,
} from "yaml";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import { parsePlaced } from "./parse-document.js";

/** A part of a text to be replaced, as offsets. */
interface Splice {
  readonly start: number;
  readonly end: number;
  readonly by: string;
}

/** Beyond this many signs, what is written anew stands on lines of its own. */
const longLine = 100;

/**
 * The text of a document, or of another file of YAML, changed so that it says what `document` says. Only what is different
 * is written anew; all other lines, with their comments, order and spelling, stay as they are, sign by sign.
 *
 * @example
 * const { document } = parseDocument(text);
 * const { document: moved } = moveRanges(document, "plan", { kind: "insert", of: "rows", at: 4, count: 1 });
 * writeFileSync(file, editText(text, moved));
 *
 * @throws PortierError with what is wrong in the text, or with code `wrong-call` where an alias stands for what is to be
 * different in only one of its places.
 */
export function editText(text: string, document: object): string {
  const before = parsePlaced(text, {}).value;
  const after = plainOf(document);
  const yaml = parseYaml(text, { schema: "core", merge: false });
  const splices: Splice[] = [];
  changeNode(text, yaml.contents, before, after, splices);
  const edited = applySplices(text, splices);
  if (isSame(readBack(edited), after)) return edited;
  throw portierError("wrong-call", {
    what: "this text cannot be changed in its place",
    hint: "write out what anchors and aliases stand for, and try again",
  });
}

/** As it would be read from a file: without keys that have no value. */
function plainOf(value: unknown): unknown {
  return JSON.parse(JSON.stringify(value));
}

function readBack(text: string): unknown {
  try {
    return parsePlaced(text, {}).value;
  } catch {
    return undefined;
  }
}

function isSame(a: unknown, b: unknown): boolean {
  if (Array.isArray(a))
    return Array.isArray(b) && a.length === b.length && a.every((one, index) => isSame(one, b[index]));
  if (!isMapping(a) || !isMapping(b)) return Object.is(a, b);
  const keys = Object.keys(a);
  return keys.length === Object.keys(b).length && keys.every((key) => Object.hasOwn(b, key) && isSame(a[key], b[key]));
}

function applySplices(text: string, splices: readonly Splice[]): string {
  // From the end, so that the offsets before stay right; what is taken out goes before something is put in its place, and
  // of two additions the inner one, which was found first, comes to stand first.
  const ordered = splices
    .map((one, index) => ({ ...one, index }))
    .sort((a, b) => b.start - a.start || b.end - a.end || b.index - a.index);
  return ordered.reduce((done, { start, end, by }) => done.slice(0, start) + by + done.slice(end), text);
}

function changeNode(text: string, node: Node | null, before: unknown, after: unknown, splices: Splice[]): void {
  if (isSame(before, after)) return;
  if (isMap(node) && isMapping(before) && isMapping(after) && node.items.length > 0) {
    const isKept = node.items.some((pair) => Object.hasOwn(after, nameOf(pair)));
    if (isKept) {
      changeMap(text, node, before, after, splices);
      return;
    }
  }
  if (isSeq(node) && Array.isArray(before) && Array.isArray(after) && isLonger(before, after)) {
    for (const [index, item] of node.items.entries()) {
      changeNode(text, item as Node, before[index], after[index], splices);
    }
    if (after.length > before.length) splices.push(appended(text, node, after.slice(before.length)));
    return;
  }
  if (node?.range == null) return;
  const [start, end] = node.range;
  // A block ends behind its last line, which is not a part of what is replaced.
  const trimmed = text.slice(start, end).trimEnd().length;
  splices.push({ start, end: start + trimmed, by: inFlow(after) });
}

/** Whether the second list has the items of the first and perhaps more; one without items has no place for more. */
function isLonger(before: readonly unknown[], after: readonly unknown[]): boolean {
  return after.length === before.length || (before.length > 0 && after.length > before.length);
}

/** New items of a list, behind the last one. */
function appended(text: string, list: YAMLSeq, items: readonly unknown[]): Splice {
  const [from, to] = (list.items.at(-1) as Node).range ?? [0, 0];
  const end = from + text.slice(from, to).trimEnd().length;
  if (list.flow === true) return { start: end, end, by: items.map((item) => `, ${inFlow(item)}`).join("") };
  const start = list.range?.[0] ?? 0;
  const margin = " ".repeat(start - lineStart(text, start));
  const at = lineEnd(text, end);
  return { start: at, end: at, by: items.map((item) => `\n${margin}- ${inFlow(item)}`).join("") };
}

function changeMap(
  text: string,
  map: YAMLMap,
  before: Readonly<Record<string, unknown>>,
  after: Readonly<Record<string, unknown>>,
  splices: Splice[],
): void {
  const isKept = (pair: Pair | undefined) => pair !== undefined && Object.hasOwn(after, nameOf(pair));
  for (const [index, pair] of map.items.entries()) {
    const name = nameOf(pair);
    if (!isKept(pair)) {
      // Neighbours go together, with what is between them.
      if (index === 0 || isKept(map.items[index - 1])) splices.push(removal(text, map, index, isKept));
    } else if (pair.value === null || isEmpty(pair.value as Node)) {
      if (!isSame(before[name], after[name])) splices.push(filling(pair, after[name]));
    } else changeNode(text, pair.value as Node, before[name], after[name], splices);
  }
  const added = Object.keys(after).filter((name) => !Object.hasOwn(before, name));
  const last = map.items.findLast(isKept);
  if (added.length > 0 && last !== undefined) {
    const entries = added.map((name) => [name, after[name]] as const);
    splices.push(addition(text, map, last, entries));
  }
}

/** New entries of a mapping, behind the last one that stays. */
function addition(text: string, map: YAMLMap, last: Pair, entries: readonly (readonly [string, unknown])[]): Splice {
  const end = endOf(text, last);
  if (map.flow === true) {
    const by = entries.map(([name, value]) => `, ${inFlow(name)}: ${inFlow(value)}`).join("");
    return { start: end, end, by };
  }
  const start = startOf(map.items[0] as Pair);
  const indent = start - lineStart(text, start);
  const by = entries.map(([name, value]) => `\n${inBlock(name, value, indent)}`).join("");
  const at = lineEnd(text, end);
  return { start: at, end: at, by };
}

/** Pairs from one on that do not stay: their lines, or within a line what is between them and what stays. */
function removal(text: string, map: YAMLMap, from: number, isKept: (pair: Pair | undefined) => boolean): Splice {
  const start = startOf(map.items[from] as Pair);
  const until = map.items.findIndex((pair, index) => index > from && isKept(pair));
  const next = map.items[until];
  const end = endOf(text, map.items.at(next === undefined ? -1 : until - 1) as Pair);
  const hasOwnLines = text.slice(lineStart(text, start), start).trim() === "";
  if (map.flow !== true && hasOwnLines) {
    return { start: lineStart(text, start), end: Math.min(lineEnd(text, end) + 1, text.length), by: "" };
  }
  if (next !== undefined) return { start, end: startOf(next), by: "" };
  const before = map.items[from - 1];
  return { start: before === undefined ? start : endOf(text, before), end, by: "" };
}

/** A key without a value gets one. */
function filling(pair: Pair, value: unknown): Splice {
  const end = (pair.key as Node).range?.[1] ?? 0;
  return { start: end + 1, end: end + 1, by: ` ${inFlow(value)}` };
}

function isEmpty(node: Node): boolean {
  return isScalar(node) && node.value === null && node.range?.[0] === node.range?.[1];
}

function nameOf({ key }: Pair): string {
  return isScalar(key) ? String(key.value) : String(key);
}

function startOf({ key }: Pair): number {
  return (key as Node).range?.[0] ?? 0;
}

/** Where a pair's value ends, without the line's end and remarks. */
function endOf(text: string, { key, value }: Pair): number {
  const [start, end] = ((value as Node | null) ?? (key as Node)).range ?? [0, 0];
  return start + text.slice(start, end).trimEnd().length;
}

function lineStart(text: string, offset: number): number {
  return text.lastIndexOf("\n", offset - 1) + 1;
}

function lineEnd(text: string, offset: number): number {
  const end = text.indexOf("\n", offset);
  return end === -1 ? text.length : end;
}

/** A value on one line: `{ edit: [label, status] }`. */
function inFlow(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(inFlow).join(", ")}]`;
  if (isMapping(value)) {
    const entries = Object.entries(value).map(([key, one]) => `${inFlow(key)}: ${inFlow(one)}`);
    return entries.length === 0 ? "{}" : `{ ${entries.join(", ")} }`;
  }
  // Within brackets, as what needs quotes there needs them nowhere less. JSON's texts are YAML's, on one line.
  const list = stringify([value], { collectionStyle: "flow", lineWidth: 0, flowCollectionPadding: false }).trim();
  return list.includes("\n") ? JSON.stringify(value) : list.slice(1, -1);
}

/** An entry of a mapping in block style: on one line where it fits. */
function inBlock(name: string, value: unknown, indent: number): string {
  const margin = " ".repeat(indent);
  const line = `${margin}${inFlow(name)}: ${inFlow(value)}`;
  if (line.length <= longLine || !isMapping(value)) return line;
  const entries = Object.entries(value).map(([key, one]) => inBlock(key, one, indent + 2));
  return `${margin}${inFlow(name)}:\n${entries.join("\n")}`;
}
