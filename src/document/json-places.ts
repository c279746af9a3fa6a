import { LineCounter } from "yaml";
import type { Locate } from "../schema/problems.js";
import { parsePlaced } from "./parse-document.js";
import { lineAndColumn } from "./text-place.js";

/**
 * The places of the parts of a JSON list: each element is found by counting, and only one with something to say is
 * read a second time, so that a large file is not.
 */
export function locateInList(text: string, file: string): Locate {
  const lines = new LineCounter();
  for (let end = -1; ; ) {
    lines.addNewLine(end + 1);
    end = text.indexOf("\n", end + 1);
    if (end < 0) break;
  }
  const starts = elementStarts(text);
  return ([index, ...path], offset) => {
    const start = starts[Number(index)];
    if (index === undefined || start === undefined) return { file, line: 1, column: 1 };
    const at = lineAndColumn(lines, start);
    const element = text.slice(start, starts[Number(index) + 1]).replace(/[\s,\]]*$/, "");
    const inside = parsePlaced(element, { file }).locate(path, offset);
    const { line = 1, column = 1 } = inside;
    return { file, line: at.line + line - 1, column: line === 1 ? at.column + column - 1 : column };
  };
}

/** Where each element of a list begins, in a text that is known to be JSON. */
function elementStarts(text: string): readonly number[] {
  const starts: number[] = [];
  let depth = 0;
  let isDue = false;
  for (let at = 0; at < text.length; at++) {
    const sign = text[at] as string;
    if (isDue && !/\s/.test(sign) && sign !== "]") {
      starts.push(at);
      isDue = false;
    }
    if (sign === '"') at = stringEnd(text, at);
    else if (sign === "[" || sign === "{") isDue = ++depth === 1;
    else if (sign === "]" || sign === "}") depth--;
    else if (sign === "," && depth === 1) isDue = true;
  }
  return starts;
}

function stringEnd(text: string, start: number): number {
  let at = start + 1;
  while (at < text.length && text[at] !== '"') at += text[at] === "\\" ? 2 : 1;
  return at;
}
