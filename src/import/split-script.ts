/** One statement of a script. */
export interface ScriptStatement {
  /** Without the semicolon at its end. */
  readonly text: string;
  /** Where it begins, 1-based. */
  readonly line: number;
}

/** Databases whose scripts are taken apart. */
export type ScriptDialect = "postgres" | "mariadb";

const skipped = /\s+|--[^\n]*/y;
const hashComment = /#[^\n]*/y;
const word = /[\p{L}_][\p{L}\p{N}_$]*/uy;
const dollarQuote = /\$(?:[\p{L}_][\p{L}\p{N}_]*)?\$/uy;
const metaCommand = /\\[^\n]*/y;
const delimiterCommand = /delimiter[ \t]+(\S+)[^\n]*/iy;
const copiesData = /^copy\b[^;]*\bfrom\s+stdin\b/i;

/**
 * Takes a script apart into statements, as `psql` and the client of MariaDB do: quotes, comments, bodies of functions,
 * `COPY ... FROM stdin` with its lines of data, commands that begin with `\`, and `DELIMITER`. Comments are left out; those
 * that MariaDB runs (`/*!40101 ... *\/`) are not.
 */
export function splitScript(script: string, dialect: ScriptDialect): ScriptStatement[] {
  const statements: ScriptStatement[] = [];
  const isPostgres = dialect === "postgres";
  let [at, line, counted] = [0, 1, 0];
  let [text, begin] = ["", 0];
  let delimiter = ";";
  // Of a body that is written as statements: "begin atomic ... end", with "case ... end" in it.
  let depth = 0;
  let last = "";

  const match = (pattern: RegExp): RegExpExecArray | null => {
    pattern.lastIndex = at;
    return pattern.exec(script);
  };
  const take = (length: number) => {
    if (text === "") begin = at;
    text += script.slice(at, at + length);
    at += length;
  };
  const blank = (length: number) => {
    at += length;
    if (text !== "" && !text.endsWith(" ")) text += " ";
  };
  const end = () => {
    for (; counted < begin; counted++) if (script[counted] === "\n") line++;
    if (text.trim() !== "") statements.push({ text: text.trim(), line });
    const wasCopy = isPostgres && copiesData.test(text);
    [text, depth, last] = ["", 0, ""];
    if (wasCopy) skipData();
  };
  const skipData = () => {
    const over = /^\\\.[ \t]*\r?$/m;
    const rest = script.slice(at);
    const found = over.exec(rest);
    at = found === null ? script.length : at + found.index + found[0].length;
  };

  while (at < script.length) {
    const sign = script[at] as string;
    const space = match(skipped) ?? (isPostgres ? null : match(hashComment));
    if (space !== null) {
      blank(space[0].length);
      continue;
    }
    if (script.startsWith("/*", at)) {
      const marked = isPostgres ? null : /^\/\*M?!\d*/.exec(script.slice(at, at + 12));
      blank(marked === null ? commentLength(script, at, isPostgres) : marked[0].length);
      continue;
    }
    if (!isPostgres && script.startsWith("*/", at)) {
      blank(2);
      continue;
    }
    if (script.startsWith(delimiter, at) && depth === 0) {
      end();
      at += delimiter.length;
      continue;
    }
    if (text === "") {
      const command = isPostgres ? match(metaCommand) : match(delimiterCommand);
      if (command !== null) {
        delimiter = command[1] ?? delimiter;
        at += command[0].length;
        continue;
      }
    }
    const dollar = isPostgres && sign === "$" ? match(dollarQuote) : null;
    if (dollar !== null) {
      const close = script.indexOf(dollar[0], at + dollar[0].length);
      take(close < 0 ? script.length - at : close + dollar[0].length - at);
      continue;
    }
    if (sign === "'" || sign === '"' || (!isPostgres && sign === "`")) {
      const isEscaped = isPostgres ? sign === "'" && /^e$/i.test(last) : sign !== "`";
      take(quotedLength(script, at, isEscaped));
      last = "";
      continue;
    }
    const found = match(word);
    if (found !== null) {
      const [name = ""] = found[0].split(delimiter);
      const next = name.toLowerCase();
      if (isPostgres && next === "atomic" && last === "begin") depth = 1;
      else if (depth > 0 && next === "case") depth++;
      else if (depth > 0 && next === "end") depth--;
      last = next;
      take(name.length);
      continue;
    }
    last = "";
    take(1);
  }
  end();
  return statements;
}

function commentLength(script: string, at: number, isNested: boolean): number {
  const marks = /\/\*|\*\//g;
  marks.lastIndex = at;
  let depth = 0;
  for (let found = marks.exec(script); found !== null; found = marks.exec(script)) {
    if (found[0] === "*/") depth--;
    else if (isNested || depth === 0) depth++;
    if (depth === 0) return marks.lastIndex - at;
  }
  return script.length - at;
}

/** How long a quoted text is, with its quotes; a quote in it is doubled, or where backslashes escape, behind one. */
export function quotedLength(text: string, at: number, isEscaped: boolean): number {
  const quote = text[at] as string;
  for (let next = at + 1; next < text.length; next++) {
    if (isEscaped && text[next] === "\\") next++;
    else if (text[next] === quote) {
      if (text[next + 1] !== quote) return next + 1 - at;
      next++;
    }
  }
  return text.length - at;
}
