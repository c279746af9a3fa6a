/** A piece of a condition's text. `value` is the name or text without quotes; `end` is the offset behind it. */
export interface Token {
  readonly kind: "name" | "quoted" | "text" | "number" | "symbol" | "end";
  readonly value: string;
  readonly at: number;
  readonly end: number;
}

/** What could not be read, and where. */
export interface LexicalError {
  readonly found: string;
  readonly expected: string;
  readonly at: number;
}

const pieces =
  /\s+|(?<name>[\p{L}_][\p{L}\p{Nd}_]*)|"(?<quoted>(?:[^"]|"")*)"|'(?<text>(?:[^']|'')*)'|(?<number>\d+(?:\.\d+)?)|(?<symbol><>|<=|>=|[=<>(),.+-])/uy;

/** Splits a condition into tokens; the last one is always `end`. Linear in the length of the text. */
export function tokenize(source: string): { tokens: Token[]; error?: LexicalError } {
  const tokens: Token[] = [];
  const scan = new RegExp(pieces);
  let at = 0;
  while (at < source.length) {
    scan.lastIndex = at;
    const found = scan.exec(source);
    if (found === null) return { tokens: withEnd(tokens, at), error: unreadable(source, at) };
    const end = scan.lastIndex;
    const { name, quoted, text, number, symbol } = found.groups ?? {};
    if (name !== undefined) tokens.push({ kind: "name", value: name, at, end });
    else if (quoted !== undefined) tokens.push({ kind: "quoted", value: quoted.replaceAll('""', '"'), at, end });
    else if (text !== undefined) tokens.push({ kind: "text", value: text.replaceAll("''", "'"), at, end });
    else if (number !== undefined) tokens.push({ kind: "number", value: number, at, end });
    else if (symbol !== undefined) tokens.push({ kind: "symbol", value: symbol, at, end });
    at = end;
  }
  return { tokens: withEnd(tokens, source.length) };
}

function withEnd(tokens: Token[], at: number): Token[] {
  tokens.push({ kind: "end", value: "", at, end: at });
  return tokens;
}

const advice: Readonly<Record<string, string>> = {
  "'": "a closing quote '",
  '"': 'a closing quote "',
  "!": "<> for not equal, or the word not",
  "&": "the word and",
  "|": "the word or",
  "%": "an operand",
};

function unreadable(source: string, at: number): LexicalError {
  const character = String.fromCodePoint(source.codePointAt(at) ?? 0);
  const quote = character === "'" || character === '"';
  return {
    found: quote ? `a text that begins with ${character} and does not end` : `"${character}"`,
    expected: advice[character] ?? "a name, a value or an operator",
    at,
  };
}
