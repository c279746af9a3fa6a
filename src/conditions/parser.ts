import { limits } from "../schema/limits.js";
import { type Token, tokenize } from "./lexer.js";
import {
  type Condition,
  comparisonOps,
  type DurationUnit,
  durationUnits,
  type MatchWord,
  type OperandSyntax,
  type PathRoot,
  type PathSyntax,
  pathRoots,
  reservedWords,
} from "./syntax.js";
import { Stop, type SyntaxProblem, TokenReader } from "./token-reader.js";

export type Parsed = { readonly condition: Condition } | { readonly problems: readonly SyntaxProblem[] };

/**
 * Reads a condition by recursive descent over the grammar of the document format. After a mistake it goes on behind the
 * next "and" or "or" of the same level, so that each test that is wrong is reported, once.
 */
export function parseCondition(source: string): Parsed {
  if (source.length > limits.conditionLength) {
    const expected = `at most ${limits.conditionLength} characters`;
    return { problems: [{ code: "condition-syntax", found: `${source.length} characters`, expected, at: 0 }] };
  }
  const { tokens, error } = tokenize(source);
  if (error !== undefined) return { problems: [{ code: "condition-syntax", ...error }] };
  const parser = new Parser(tokens);
  const condition = parser.whole();
  return parser.problems.length === 0 ? { condition } : { problems: parser.problems };
}

class Parser {
  readonly #read: TokenReader;
  /** In the order in which they stand. */
  readonly problems: SyntaxProblem[] = [];
  #depth = 0;
  /** Whether the low end of a "between" has been begun, so that the next "and" belongs to it. */
  #inBetween = false;
  /** Where reading went on after the last mistake. */
  #resumed = -1;

  constructor(tokens: readonly Token[]) {
    this.#read = new TokenReader(tokens);
  }

  whole(): Condition {
    const condition = this.#condition();
    while (this.#read.peek().kind !== "end") {
      this.#recover(() => this.#read.fail("and, or, or the end of the condition"));
      // Only for the mistakes that may follow.
      if (this.#read.takeWord("and") || this.#read.takeWord("or")) this.#condition();
      else if (this.#read.peek().kind !== "end") this.#read.next++;
    }
    return condition;
  }

  /** Reads a part; after a mistake in it notes that, and goes on behind the part. */
  #recover(read: () => Condition): Condition {
    const { at } = this.#read.peek();
    const depth = this.#depth;
    const start = this.#read.next;
    try {
      return read();
    } catch (thrown) {
      if (!(thrown instanceof Stop)) throw thrown;
      // Nothing read since the last mistake: this is the same one again, seen from further out.
      if (this.#read.next > this.#resumed) this.problems.push(thrown.problem);
      // A word that cannot stand here is the mistake itself, and joins nothing.
      if (this.#read.next === start && !this.#read.isSymbol(")")) this.#read.next++;
      this.#skip(this.#depth - depth);
      this.#resumed = this.#read.next;
      this.#depth = depth;
      this.#inBetween = false;
      return { kind: "truth", value: false, at };
    }
  }

  /** Goes to the next "and" or "or" of the level that lies `open` parentheses further out, to its ")", or to the end. */
  #skip(open: number): void {
    let level = open;
    for (let token = this.#read.peek(); token.kind !== "end"; token = this.#read.peek()) {
      if (this.#read.isSymbol("(")) level++;
      else if (this.#read.isSymbol(")") && level-- === 0) return;
      else if (level === 0 && this.#read.isWord("and") && this.#inBetween) this.#inBetween = false;
      else if (level === 0 && (this.#read.isWord("and") || this.#read.isWord("or"))) return;
      this.#read.next++;
    }
  }

  #condition(): Condition {
    return this.#chain("or", () => this.#chain("and", () => this.#recover(() => this.#term())));
  }

  #chain(word: "and" | "or", part: () => Condition): Condition {
    const at = this.#read.peek().at;
    const first = part();
    if (!this.#read.isWord(word)) return first;
    const terms = [first];
    while (this.#read.takeWord(word)) terms.push(part());
    return { kind: word, terms, at };
  }

  #term(): Condition {
    const at = this.#read.peek().at;
    return this.#read.takeWord("not") ? { kind: "not", term: this.#primary(), at } : this.#primary();
  }

  #primary(): Condition {
    const { at } = this.#read.peek();
    if (this.#read.takeSymbol("(")) {
      this.#deeper(at);
      const inner = this.#condition();
      if (!this.#read.takeSymbol(")")) this.#read.fail('")"');
      this.#depth--;
      return inner;
    }
    if (this.#read.takeWord("exists")) return this.#exists(at);
    if (this.#read.takeWord("may")) return this.#may(at);
    for (const value of [true, false]) {
      if (this.#read.isWord(String(value)) && !this.#continuesComparison(1)) {
        this.#read.next++;
        return { kind: "truth", value, at };
      }
    }
    return this.#comparison();
  }

  #exists(at: number): Condition {
    if (!this.#read.takeSymbol("(")) this.#read.fail('"("');
    this.#deeper(at);
    const { at: tableAt, value: table } = this.#name("a table's name");
    if (!this.#read.takeWord("where")) this.#read.fail("where");
    const condition = this.#condition();
    if (!this.#read.takeSymbol(")")) this.#read.fail('")"');
    this.#depth--;
    return { kind: "exists", table, tableAt, condition, at };
  }

  #may(at: number): Condition {
    const { at: actionAt, value: action } = this.#name("an action");
    const path = this.#plainOperand();
    if (path.kind === "path" && path.root !== "request") return { kind: "may", action, actionAt, path, at };
    const found = path.kind === "path" ? `"${path.root}"` : "a value";
    throw new Stop({ code: "condition-syntax", found, expected: "a path of references", at: path.at });
  }

  #name(expected: string): Token {
    const token = this.#read.peek();
    if (token.kind !== "name" && token.kind !== "quoted") this.#read.fail(expected);
    return this.#read.take();
  }

  #deeper(at: number): void {
    if (++this.#depth <= limits.conditionDepth) return;
    throw new Stop({ code: "condition-depth", found: "", expected: "", at });
  }

  /** Whether the token `ahead` makes a comparison of what stands before it: `true = active` against a plain `true`. */
  #continuesComparison(ahead: number): boolean {
    const token = this.#read.peek(ahead);
    if (token.kind === "symbol") return comparisonOps.some((op) => op === token.value);
    if (token.kind !== "name") return false;
    return ["in", "between", "is", "like", "contains", "starts", "ends", "not"].includes(token.value.toLowerCase());
  }

  #comparison(): Condition {
    const { at } = this.#read.peek();
    const operand = this.#operand();
    const symbol = this.#read.peek();
    for (const op of comparisonOps) {
      if (symbol.kind === "symbol" && symbol.value === op) {
        this.#read.next++;
        return { kind: "compare", op, left: operand, right: this.#operand(), at };
      }
    }
    if (this.#read.takeWord("is")) {
      const negated = this.#read.takeWord("not");
      if (this.#read.takeWord("null")) return { kind: "is-null", negated, operand, at };
      if (operand.kind !== "path") this.#read.fail(negated ? "null" : "null or not null");
      return this.#member(operand, negated, at);
    }
    const negated = this.#read.takeWord("not");
    if (this.#read.takeWord("in")) return this.#in(operand, negated, at);
    if (this.#read.takeWord("between")) {
      this.#inBetween = true;
      const low = this.#operand();
      if (!this.#read.takeWord("and")) this.#read.fail("and");
      this.#inBetween = false;
      return { kind: "between", negated, operand, low, high: this.#operand(), at };
    }
    const how = this.#matchWord();
    if (how !== undefined) return { kind: "match", how, negated, operand, pattern: this.#operand(), at };
    return this.#read.fail(
      negated
        ? "in, between, like, starts with, ends with or contains"
        : "=, <>, <, <=, >, >=, is, in, between, like, starts with, ends with or contains",
    );
  }

  #member(path: PathSyntax, negated: boolean, at: number): Condition {
    const { at: nameAt, value: name } = this.#name(
      negated ? "null, or the name of a role or group" : "null, not null, or the name of a role or group",
    );
    if (!this.#read.takeWord("of")) return { kind: "member", negated, path, name, nameAt, on: undefined, at };
    const on = this.#plainOperand();
    if (on.kind === "path") return { kind: "member", negated, path, name, nameAt, on, at };
    throw new Stop({ code: "condition-syntax", found: "a value", expected: "a path of references", at: on.at });
  }

  #in(operand: OperandSyntax, negated: boolean, at: number): Condition {
    if (!this.#read.takeSymbol("(")) {
      const list = this.#operand();
      if (list.kind !== "path") {
        throw new Stop({ code: "condition-syntax", found: "a value", expected: '"(" or a list field', at: list.at });
      }
      return { kind: "in-list", negated, operand, list, at };
    }
    const items = [this.#operand()];
    while (this.#read.takeSymbol(",")) items.push(this.#operand());
    if (!this.#read.takeSymbol(")")) this.#read.fail('"," or ")"');
    return { kind: "in", negated, operand, items, at };
  }

  #matchWord(): MatchWord | undefined {
    if (this.#read.takeWord("like")) return "like";
    if (this.#read.takeWord("contains")) return "contains";
    for (const word of ["starts", "ends"] as const) {
      if (!this.#read.takeWord(word)) continue;
      if (!this.#read.takeWord("with")) this.#read.fail("with");
      return `${word} with`;
    }
    return undefined;
  }

  #operand(): OperandSyntax {
    let operand = this.#plainOperand();
    while (this.#read.isSymbol("+") || this.#read.isSymbol("-")) {
      const { at, value } = this.#read.take();
      const number = this.#read.peek();
      if (number.kind !== "number" || number.value.includes(".") || !Number.isSafeInteger(Number(number.value))) {
        this.#read.fail("a whole number of days, hours or minutes");
      }
      this.#read.next++;
      const amount = Number(number.value);
      operand = {
        kind: "shift",
        operand,
        amount: value === "-" && amount > 0 ? -amount : amount,
        unit: this.#unit(),
        at,
      };
    }
    return operand;
  }

  #unit(): DurationUnit {
    for (const unit of durationUnits) {
      if (this.#read.takeWord(unit) || this.#read.takeWord(`${unit}s`)) return unit;
    }
    return this.#read.fail("days, hours or minutes");
  }

  #plainOperand(): OperandSyntax {
    const token = this.#read.peek();
    const { at } = token;
    if (token.kind === "text") return { kind: "text", value: this.#read.take().value, at };
    if (token.kind === "number") return { kind: "number", digits: this.#read.take().value, at };
    if (this.#read.isSymbol("-") && this.#read.peek(1).kind === "number") {
      this.#read.next++;
      return { kind: "number", digits: `-${this.#read.take().value}`, at };
    }
    if (token.kind === "quoted") return this.#path("record", at);
    if (token.kind !== "name") return this.#read.fail("a name or a value");

    const word = token.value.toLowerCase();
    if ((word === "date" || word === "timestamp") && this.#read.peek(1).kind === "text") {
      this.#read.next++;
      return { kind: word, value: this.#read.take().value, at };
    }
    if (word === "true" || word === "false") {
      this.#read.next++;
      return { kind: "boolean", value: word === "true", at };
    }
    if (word === "null" || word === "today") {
      this.#read.next++;
      return { kind: word, at };
    }
    const root = pathRoots.find((name) => name === word);
    if (root !== undefined) {
      this.#read.next++;
      return this.#path(root, at);
    }
    if (reservedWords.has(word))
      this.#read.fail(`a name or a value (write "${token.value}" in double quotes to name a field)`);
    return this.#path("record", at);
  }

  /** Behind a root word, a dot leads to the first name; from the record, the first name stands at once. */
  #path(root: PathRoot, at: number): PathSyntax {
    const names: string[] = [];
    const places: number[] = [];
    const takeName = () => {
      const token = this.#read.peek();
      if (token.kind !== "name" && token.kind !== "quoted") this.#read.fail("a field's name");
      if (names.length >= limits.pathSteps) this.#read.fail(`at most ${limits.pathSteps} names in one path`);
      this.#read.next++;
      names.push(token.value);
      places.push(token.at);
    };
    if (root === "record") takeName();
    while (this.#read.takeSymbol(".")) takeName();
    return { kind: "path", root, names, places, at };
  }
}
