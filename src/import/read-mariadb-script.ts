import type { DriverRow } from "../database/connection.js";
import { assemble, type Findings, type FoundBeside, type FoundDatabase, unreadView } from "./found.js";
import { mariadbColumn } from "./read-mariadb.js";
import { quotedLength, splitScript } from "./split-script.js";

/** A piece of a statement: a name in backticks, a text in quotes, what stands in brackets, or a word or sign. */
interface Token {
  readonly kind: "name" | "text" | "brackets" | "word";
  /** Without its backticks or brackets; a text with its quotes. */
  readonly text: string;
}

/** A table as its statements make it, each column in the words of the catalogue. */
interface ScriptTable {
  readonly name: string;
  readonly columns: Map<string, DriverRow>;
  readonly checks: string[];
}

/**
 * What the tables of a script are that `mariadb-dump`, `mysqldump` or `show create table` wrote: they name everything in
 * backticks, and keys and references by themselves. Nothing is run.
 */
export function readMariadbScript(script: string): FoundDatabase & { readonly notes: readonly string[] } {
  const tables = new Map<string, ScriptTable>();
  const keys: Findings["keys"][number][] = [];
  const references: Findings["references"][number][] = [];
  const views = new Set<string>();
  const notes: string[] = [];
  for (const { text, line } of splitScript(script, "mariadb")) {
    const tokens = tokensOf(text);
    const words = tokens.map((token) => (token.kind === "word" ? token.text.toLowerCase() : ""));
    const view = words.indexOf("view");
    if (words[0] === "create" && view > 0 && words.indexOf("as") > view) {
      views.add(nameAt(tokens, view + 1));
      continue;
    }
    const table = words.indexOf("table");
    if (words[0] !== "create" && words[0] !== "alter") continue;
    if (table !== 1 && !(words[0] === "create" && words[1] === "temporary")) continue;
    const at = tokens.findIndex(
      ({ kind }, index) =>
        index > table &&
        (kind === "name" || (kind === "word" && !["if", "not", "exists"].includes(words[index] ?? ""))),
    );
    const name = nameAt(tokens, at);
    if (words[0] === "alter") {
      const known = tables.get(name);
      if (known !== undefined) for (const item of itemsOf(tokens.slice(at + 1))) readChange(known, item);
      continue;
    }
    const body = tokens[at + 1];
    if (body?.kind !== "brackets") {
      notes.push(`line ${line}, create table ${name}: its columns are not written out`);
      continue;
    }
    const made: ScriptTable = { name, columns: new Map(), checks: [] };
    const collation = collationIn(tokens.slice(at + 2));
    tables.set(name, made);
    for (const item of itemsOf(tokensOf(body.text))) readItem(made, item, collation);
  }
  // In older dumps a table stands for each view until that is made.
  for (const view of views) tables.delete(view);
  for (const { name, columns } of tables.values()) {
    if (columns.size === 0) notes.push(`create table ${name}: no column of it could be read`);
  }
  const besides = [...views].map(
    (view): FoundBeside => ({ schema: undefined, sentence: `view "${view}": ${unreadView}` }),
  );
  const columns = [...tables.values()].flatMap(({ name, columns: all, checks }) =>
    [...all.values()].map((row) => ({ table: { schema: undefined, name }, column: mariadbColumn(row, checks) })),
  );
  const isThere = ({ table }: { readonly table: { readonly name: string } }) => tables.has(table.name);
  const found = assemble({ columns, keys: keys.filter(isThere), references: references.filter(isThere) });
  return { tables: found, besides, notes };

  /** One of the items between the brackets of a table: a column, a key, a reference or a check. */
  function readItem(table: ScriptTable, item: readonly Token[], collation: string | undefined): void {
    const [first] = item;
    const isConstraint = first?.kind === "word" && constraintWords.has(first.text.toLowerCase());
    if (isConstraint) readConstraint(table, item);
    else readColumn(table, item, collation);
  }

  function readConstraint(table: ScriptTable, item: readonly Token[]): void {
    const words = item.map((token) => (token.kind === "word" ? token.text.toLowerCase() : ""));
    const own = { schema: undefined, name: table.name };
    const lists = item.filter(({ kind }) => kind === "brackets").map(({ text }) => namesIn(text));
    const [columns = [], target = []] = lists;
    if (words.includes("foreign")) {
      const to = nameAt(item, words.indexOf("references") + 1);
      references.push({ table: own, reference: { columns, schema: undefined, table: to, target } });
    } else if (words.includes("primary")) keys.push({ table: own, columns, isPrimary: true });
    else if (words.includes("unique")) keys.push({ table: own, columns, isPrimary: false });
    else if (words.includes("check")) {
      const check = item.find(({ kind }) => kind === "brackets")?.text;
      if (check !== undefined) table.checks.push(plainCheck(check));
    }
  }

  function readColumn(table: ScriptTable, item: readonly Token[], collation: string | undefined): void {
    const [name, type, length, ...more] = item;
    if (name === undefined || type === undefined) return;
    const hasLength = length?.kind === "brackets";
    const rest = hasLength ? more : [...(length === undefined ? [] : [length]), ...more];
    const words = rest.map((token) => (token.kind === "word" ? token.text.toLowerCase() : ""));
    const base = type.text.toLowerCase();
    const after = (word: string) => (words.includes(word) ? rest[words.indexOf(word) + 1] : undefined);
    const initial = after("default");
    const following = rest[words.indexOf("default") + 2];
    const expression = following?.kind === "brackets" ? `${initial?.text}(${following.text})` : initial?.text;
    const isComputed = words.includes("generated") || (words.includes("as") && !words.includes("default"));
    const collated = after("collate")?.text ?? collation;
    const isText = /char|text|enum|set/.test(base);
    const check = after("check");
    if (check?.kind === "brackets") table.checks.push(plainCheck(check.text));
    table.columns.set(name.text, {
      name: name.text,
      type: base,
      declared: `${base}${hasLength ? `(${length.text})` : ""}${words[0] === "unsigned" ? " unsigned" : ""}`,
      optional: words.some((word, at) => word === "null" && words[at - 1] === "not") ? 0 : 1,
      literal: initial === undefined ? null : expression?.toUpperCase() === "NULL" ? "NULL" : expression,
      extra: words.includes("auto_increment") ? "auto_increment" : "",
      computed: isComputed ? 1 : 0,
      collation: isText ? (collated ?? null) : null,
    });
    const own = { schema: undefined, name: table.name };
    if (words.includes("primary")) keys.push({ table: own, columns: [name.text], isPrimary: true });
    else if (words.includes("unique")) keys.push({ table: own, columns: [name.text], isPrimary: false });
    if (words.includes("references"))
      readConstraint(table, [
        { kind: "word", text: "foreign" },
        { kind: "brackets", text: `\`${name.text}\`` },
        ...rest.slice(words.indexOf("references")),
      ]);
  }

  /** One change of an `alter table`: some dumps add keys and references when all tables are there. */
  function readChange(table: ScriptTable, item: readonly Token[]): void {
    const [first, ...rest] = item;
    const word = first?.kind === "word" ? first.text.toLowerCase() : "";
    if (word === "modify")
      readColumn(table, rest[0]?.text.toLowerCase() === "column" ? rest.slice(1) : rest, undefined);
    if (word === "add") readItem(table, rest[0]?.text.toLowerCase() === "column" ? rest.slice(1) : rest, undefined);
  }
}

/** What an item between the brackets of a table begins with, where it is no column. */
const constraintWords = new Set([
  "constraint",
  "primary",
  "unique",
  "key",
  "index",
  "fulltext",
  "spatial",
  "foreign",
  "check",
  "period",
]);

function collationIn(options: readonly Token[]): string | undefined {
  const words = options.map(({ text }) => text.toLowerCase());
  const optionOf = (name: string) => {
    const at = words.lastIndexOf(name);
    return at < 0 ? undefined : words[words[at + 1] === "=" ? at + 2 : at + 1];
  };
  const charset = optionOf("charset");
  return optionOf("collate") ?? (charset === undefined ? undefined : `${charset}_general_ci`);
}

/** A check as the catalogue writes it, without words for the character set of its texts. */
function plainCheck(check: string): string {
  return check.replaceAll(/_[a-z0-9]+\s*(?=\\?')/gi, "").replaceAll("\\'", "'");
}

function namesIn(list: string): string[] {
  return itemsOf(tokensOf(list)).map(([first]) => first?.text ?? "");
}

/** The name at a place; of one with its database before it the last part. */
function nameAt(tokens: readonly Token[], at: number): string {
  const isQualified = tokens[at + 1]?.text === "." && tokens[at + 1]?.kind === "word";
  return (isQualified ? tokens[at + 2] : tokens[at])?.text ?? "";
}

/** What stands between commas. */
function itemsOf(tokens: readonly Token[]): Token[][] {
  const items: Token[][] = [[]];
  for (const token of tokens) {
    if (token.kind === "word" && token.text === ",") items.push([]);
    else items[items.length - 1]?.push(token);
  }
  return items.filter((item) => item.length > 0);
}

function tokensOf(text: string): Token[] {
  const tokens: Token[] = [];
  const word = /-?\d+\.\d+|[\p{L}\p{N}_$@-]+/uy;
  for (let at = 0; at < text.length; ) {
    const sign = text[at] as string;
    word.lastIndex = at;
    const found = word.exec(text);
    if (/\s/.test(sign)) at++;
    else if (sign === "`" || sign === "'" || sign === '"') {
      const length = quotedLength(text, at, sign !== "`");
      const whole = text.slice(at, at + length);
      tokens.push(
        sign === "`" ? { kind: "name", text: whole.slice(1, -1).replaceAll("``", "`") } : { kind: "text", text: whole },
      );
      at += length;
    } else if (sign === "(") {
      const length = bracketsLength(text, at);
      tokens.push({ kind: "brackets", text: text.slice(at + 1, at + length - 1) });
      at += length;
    } else {
      const piece = found?.[0] ?? sign;
      tokens.push({ kind: "word", text: piece });
      at += piece.length;
    }
  }
  return tokens;
}

function bracketsLength(text: string, at: number): number {
  let depth = 0;
  for (let next = at; next < text.length; next++) {
    const sign = text[next] as string;
    if (sign === "`" || sign === "'" || sign === '"') next += quotedLength(text, next, sign !== "`") - 1;
    else if (sign === "(") depth++;
    else if (sign === ")" && --depth === 0) return next + 1 - at;
  }
  return text.length - at;
}
