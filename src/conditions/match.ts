import type { MatchWord } from "./syntax.js";

/** The test behind a match word. Only `like` knows wildcards; the others take the pattern literally. */
export function matcher(how: MatchWord): (text: string, pattern: string) => boolean {
  return matchers[how];
}

const matchers: Readonly<Record<MatchWord, (text: string, pattern: string) => boolean>> = {
  like,
  "starts with": (text, pattern) => text.startsWith(pattern),
  "ends with": (text, pattern) => text.endsWith(pattern),
  contains: (text, pattern) => text.includes(pattern),
};

/**
 * SQL's `like` without an escape: `%` is any run, `_` any one character (code point). Greedy with one point to return
 * to: after a `%`, only the last one can need another try, so the work is at most length times length, never exponential.
 */
function like(text: string, pattern: string): boolean {
  const letters = Array.from(text);
  const wanted = Array.from(pattern);
  let at = 0;
  let next = 0;
  let star = -1;
  let resume = 0;
  while (at < letters.length) {
    const sign = wanted[next];
    if (sign === "%") {
      star = next++;
      resume = at;
    } else if (sign !== undefined && (sign === "_" || sign === letters[at])) {
      next++;
      at++;
    } else if (star >= 0) {
      next = star + 1;
      at = ++resume;
    } else return false;
  }
  while (wanted[next] === "%") next++;
  return next === wanted.length;
}
