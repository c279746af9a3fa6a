import {
  type Document,
  isMap,
  isNode,
  isScalar,
  isSeq,
  LineCounter,
  type Node,
  type Pair,
  parseDocument as parseYaml,
  visit,
  type YAMLMap,
} from "yaml";
import type { DocumentInput } from "../schema/document.js";
import { type Locate, type Path, PortierError, type Problem } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import { compile, type Portier } from "../session/portier.js";
import { lineAndColumn, offsetInScalar } from "./text-place.js";

/** How many nodes aliases may add to a document: a few lines of YAML could otherwise unfold to gigabytes. */
const aliasLimit = 1_000;

/** A document as plain data, and the way back from its parts to their places in the text. */
export interface ParsedDocument {
  /** Not checked yet: `compile` does that. */
  readonly document: DocumentInput;
  /** Says the line and column of a part of the document. */
  readonly locate: Locate;
}

/** How a document is read from text. */
export interface TextOptions {
  /** The name of the file, for messages. */
  readonly file?: string;
}

/**
 * Reads a document from YAML 1.2 or JSON (which is YAML).
 *
 * @throws PortierError with every problem of the text: its syntax, keys that are there twice, aliases out of bounds.
 */
export function parseDocument(text: string, options: TextOptions = {}): ParsedDocument {
  const { value, locate } = parsePlaced(text, options);
  return { document: value as DocumentInput, locate };
}

/**
 * Reads and compiles a document; every problem comes with its file, line and column.
 *
 * @throws PortierError with every problem of the text and of the document.
 *
 * @example
 * const portier = compileText(readFileSync("museum.portier.yaml", "utf8"), { file: "museum.portier.yaml" });
 */
export function compileText(text: string, options: TextOptions = {}): Portier {
  const { document, locate } = parseDocument(text, options);
  return compile(document, { locate });
}

/** Any YAML or JSON as plain data with the places of its parts. */
export function parsePlaced(text: string, { file }: TextOptions): { value: unknown; locate: Locate } {
  const lines = new LineCounter();
  const place = (offset: number) => ({ ...(file === undefined ? {} : { file }), ...lineAndColumn(lines, offset) });
  // Keys that are there twice are found below: the reader would compare each with each.
  const yaml = parseYaml(text, {
    lineCounter: lines,
    prettyErrors: false,
    schema: "core",
    merge: false,
    strict: true,
    uniqueKeys: false,
  });

  const problems: Problem[] = [...yaml.errors, ...yaml.warnings].map((error) => ({
    ...problem("not-yaml", { why: error.message.split("\n")[0] ?? error.code }),
    ...place(error.pos[0]),
  }));
  for (const key of doubleKeys(yaml)) {
    problems.push({ ...problem("duplicate-name", { what: "key", name: keyText(key) }), ...place(key.range?.[0] ?? 0) });
  }
  if (problems.length > 0) throw new PortierError(problems);

  const locate: Locate = (path, offset) => {
    const found = findNode(yaml, path);
    if (found === undefined) return place(0);
    return place(offset === undefined ? (found.range?.[0] ?? 0) : offsetInScalar(text, found, offset));
  };
  return { value: toPlain(yaml, file), locate };
}

/** Two keys are one where plain data cannot tell them apart: `1` and `"1"`, too. */
function doubleKeys(yaml: Document.Parsed): Node[] {
  const double: Node[] = [];
  visit(yaml, {
    Map: (_, { items }) => {
      const names = new Set<string>();
      for (const { key } of items) {
        if (!isNode(key)) continue;
        if (names.has(keyText(key))) double.push(key);
        names.add(keyText(key));
      }
    },
  });
  return double;
}

function toPlain(yaml: Document.Parsed, file: string | undefined): unknown {
  try {
    return yaml.toJS({ maxAliasCount: aliasLimit });
  } catch (error) {
    if (!(error instanceof ReferenceError)) throw error;
    const made = problem("alias-limit", { limit: aliasLimit });
    throw new PortierError([{ ...made, ...(file === undefined ? {} : { file }), line: 1, column: 1 }]);
  }
}

/** The node at a path, or the nearest one above it. For a mapping's entry the place is its key, where a name is at fault. */
function findNode(yaml: Document.Parsed, path: Path): Node | undefined {
  let node: Node | undefined = yaml.contents ?? undefined;
  let key: Node | undefined;
  for (const step of path) {
    const target = resolve(yaml, node);
    if (isMap(target)) {
      const pair = pairsOf(target).get(String(step));
      if (pair === undefined) return key ?? node;
      key = pair.key as Node;
      node = (pair.value ?? pair.key) as Node;
    } else if (isSeq(target)) {
      key = undefined;
      node = (target.items[Number(step)] ?? target) as Node;
    } else break;
  }
  return key !== undefined && !isScalar(node) ? key : node;
}

const pairs = new WeakMap<YAMLMap, ReadonlyMap<string, Pair>>();

/** The entries of a mapping by their names: a long one is asked for many of them. */
function pairsOf(map: YAMLMap): ReadonlyMap<string, Pair> {
  const known = pairs.get(map) ?? new Map(map.items.map((pair) => [keyText(pair.key), pair]));
  pairs.set(map, known);
  return known;
}

function resolve(yaml: Document.Parsed, node: Node | undefined): Node | undefined {
  if (node === undefined || !("source" in node) || isScalar(node)) return node;
  return (node as { resolve(doc: Document): Node | undefined }).resolve(yaml);
}

function keyText(key: unknown): string {
  return String(isScalar(key) ? key.value : key);
}
