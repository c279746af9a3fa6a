import type { Token } from "./lexer.js";

/** What stands where something else should, with its offset in the condition's text. */
export interface SyntaxProblem {
  readonly code: "condition-syntax" | "condition-depth";
  readonly found: string;
  readonly expected: string;
  readonly at: number;
}

/** Unwinds the descent; never leaves the parser. */
export class Stop {
  readonly problem: SyntaxProblem;
  constructor(problem: SyntaxProblem) {
    this.problem = problem;
  }
}

/** Goes through the tokens of a condition, one after the other. */
export class TokenReader {
  readonly #tokens: readonly Token[];
  /** The place of the next token. */
  next = 0;

  constructor(tokens: readonly Token[]) {
    this.#tokens = tokens;
  }

  peek(ahead = 0): Token {
    return this.#tokens[Math.min(this.next + ahead, this.#tokens.length - 1)] as Token;
  }

  take(): Token {
    const token = this.peek();
    this.next++;
    return token;
  }

  isWord(word: string): boolean {
    const token = this.peek();
    return token.kind === "name" && token.value.toLowerCase() === word;
  }

  takeWord(word: string): boolean {
    if (!this.isWord(word)) return false;
    this.next++;
    return true;
  }

  isSymbol(symbol: string): boolean {
    const token = this.peek();
    return token.kind === "symbol" && token.value === symbol;
  }

  takeSymbol(symbol: string): boolean {
    if (!this.isSymbol(symbol)) return false;
    this.next++;
    return true;
  }

  fail(expected: string): never {
    const token = this.peek();
    const found = token.kind === "end" ? "the end of the condition" : `"${spelling(token)}"`;
    throw new Stop({ code: "condition-syntax", found, expected, at: token.at });
  }
}

function spelling(token: Token): string {
  if (token.kind === "text") return `'${token.value}'`;
  return token.value;
}
