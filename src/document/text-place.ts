import { isScalar, type LineCounter, type Node, Scalar } from "yaml";

/**
 * The offset in the file of a character of a scalar's value. Plain and quoted texts on one line are followed exactly;
 * block texts line by line, with their indentation; where that fails, the answer is where the scalar begins.
 */
export function offsetInScalar(source: string, node: Node, offset: number): number {
  const [start = 0, end = start] = node.range ?? [];
  if (!isScalar(node) || typeof node.value !== "string") return start;
  const written = source.slice(start, end);
  if (node.type === Scalar.BLOCK_LITERAL || node.type === Scalar.BLOCK_FOLDED) {
    return start + blockOffset(written, node.value, offset);
  }
  const quote = node.type === Scalar.QUOTE_DOUBLE || node.type === Scalar.QUOTE_SINGLE ? 1 : 0;
  return start + quote + walk(written.slice(quote), node.value, offset, node.type === Scalar.QUOTE_SINGLE);
}

/** Walks value and spelling side by side; a run of white space in one is a run in the other. */
function walk(written: string, value: string, offset: number, single: boolean): number {
  let at = 0;
  for (let i = 0; i < offset && at < written.length; i++) {
    if (isSpace(value[i]) && isSpace(written[at])) {
      if (isSpace(value[i + 1])) at++;
      else while (isSpace(written[at])) at++;
    } else if (written[at] === value[i]) at += single && value[i] === "'" ? 2 : 1;
    else if (written[at] === "\\") at += 2;
    else return 0;
  }
  return at;
}

function isSpace(letter: string | undefined): boolean {
  return letter !== undefined && /\s/.test(letter);
}

function blockOffset(written: string, value: string, offset: number): number {
  const header = written.indexOf("\n") + 1;
  return header + walk(written.slice(header).replace(/^ */, ""), value, offset, false) + indentation(written, header);
}

function indentation(written: string, from: number): number {
  return /^ */.exec(written.slice(from))?.[0].length ?? 0;
}

/** Line and column, both 1-based. */
export function lineAndColumn(lines: LineCounter, offset: number): { line: number; column: number } {
  const { line, col } = lines.linePos(offset);
  return { line: Math.max(1, line), column: Math.max(1, col) };
}
