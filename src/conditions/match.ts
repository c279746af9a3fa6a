import type { MatchWord } from "./syntax.js";

/** Tells whether a text matches. */
export type Matcher = (text: string) => boolean;

/** The test behind a match word, for one pattern. Only `like` knows wildcards; the others take the pattern literally. */
export function matcher(how: MatchWord, pattern: string): Matcher {
  switch (how) {
    case "like":
      return like(pattern);
    case "starts with":
      return (text) => text.startsWith(pattern);
    case "ends with":
      return (text) => text.endsWith(pattern);
    case "contains":
      return (text) => text.includes(pattern);
    default:
      return how satisfies never;
  }
}

const needsCodePoints = /[_\ud800-\udfff]/;

/**
 * SQL's `like` without an escape: `%` is any run, `_` any one character (code point). The pieces between the `%` are
 * looked for one after the other, each at the first place where it fits, and never again: no pattern makes it go back
 * over what lies behind, so the work is the text's length for plain pieces, and times a piece's length for one with `_`.
 */
function like(pattern: string): Matcher {
  const pieces = pattern.split("%");
  return needsCodePoints.test(pattern) ? likeByCodePoints(pieces) : likeByUnits(pieces);
}

function likeByUnits(pieces: readonly string[]): Matcher {
  const [first = "", ...middle] = pieces;
  const last = middle.pop();
  if (last === undefined) return (text) => text === first;
  return (text) => {
    if (!text.startsWith(first)) return false;
    let at = first.length;
    for (const piece of middle) {
      const found = text.indexOf(piece, at);
      if (found < 0) return false;
      at = found + piece.length;
    }
    return text.length - last.length >= at && text.endsWith(last);
  };
}

function likeByCodePoints(written: readonly string[]): Matcher {
  const [first = [], ...middle] = written.map((piece) => Array.from(piece));
  const last = middle.pop();
  return (text) => {
    const letters = Array.from(text);
    if (last === undefined) return letters.length === first.length && fitsAt(letters, first, 0);
    if (!fitsAt(letters, first, 0)) return false;
    let at = first.length;
    for (const piece of middle) {
      while (at + piece.length <= letters.length && !fitsAt(letters, piece, at)) at++;
      if (at + piece.length > letters.length) return false;
      at += piece.length;
    }
    const end = letters.length - last.length;
    return end >= at && fitsAt(letters, last, end);
  };
}

function fitsAt(letters: readonly string[], piece: readonly string[], at: number): boolean {
  if (at + piece.length > letters.length) return false;
  return piece.every((sign, index) => sign === "_" || sign === letters[at + index]);
}
