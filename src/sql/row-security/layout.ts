// How a migration is laid out for whoever reads it: names without quotes where they need none, and no long lines.

/** The words that PostgreSQL (15 to 18, `pg_get_keywords`) or its PL/pgSQL do not take as the name of anything, unless in quotes. */
const reserved = new Set(
  `
  begin by declare execute foreach if loop new old strict while

  all analyse analyze and any array as asc asymmetric authorization between bigint binary bit boolean both case cast char
  character check coalesce collate collation column concurrently constraint create cross current_catalog current_date
  current_role current_schema current_time current_timestamp current_user dec decimal default deferrable desc distinct do else
  end except exists extract false fetch float for foreign freeze from full grant greatest group grouping having ilike in
  initially inner inout int integer intersect interval into is isnull join json json_array json_arrayagg json_exists
  json_object json_objectagg json_query json_scalar json_serialize json_table json_value lateral leading least left like limit
  localtime localtimestamp merge_action national natural nchar none normalize not notnull null nullif numeric offset on only
  or order out outer overlaps overlay placing position precision primary real references returning right row select
  session_user setof similar smallint some substring symmetric system_user table tablesample then time timestamp to trailing
  treat trim true union unique user using values varchar variadic verbose when where window with xmlattributes xmlconcat
  xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot xmlserialize xmltable
  `
    .trim()
    .split(/\s+/),
);

/** Columns of a line at most, where it can be broken. */
const width = 140;

/** A script as it was, in shorter lines and with fewer quotes. What is between quotes stays as it is. */
export function laidOut(script: string): string {
  return linesOf(tokensOf(script)).flatMap(fitted).join("\n");
}

/** Comments, texts, names in quotes, and what is between them, word by word. */
function tokensOf(script: string): string[] {
  const tokens = script.match(/--[^\n]*|'(?:[^']|'')*'|"(?:[^"]|"")*"|\n|[ ]+|[(),]|[^\s(),'"]+/g) ?? [];
  return tokens.map((token) => {
    const name = /^"([a-z_][a-z0-9_]*)"$/.exec(token)?.[1];
    return name === undefined || reserved.has(name) ? token : name;
  });
}

function linesOf(tokens: readonly string[]): string[][] {
  const lines: string[][] = [[]];
  for (const token of tokens) {
    if (token === "\n") lines.push([]);
    else lines.at(-1)?.push(token);
  }
  return lines;
}

/** Where a line may be broken, what binds least first: before a word, or after a comma. */
const breaks: readonly ((token: string, previous: string) => boolean)[] = [
  (_, previous) => previous.endsWith(";"),
  (token, previous) => /^(?:from|where|into|when|else|loop)$/.test(token) && previous !== "distinct",
  (_, previous) => previous === ",",
  (token) => token === "or",
  (token) => token === "and",
  (token) => token === "||" || token === "operator" || token === "then",
];

/** A line as several: broken where it is nested least, and each part again. */
function fitted(line: readonly string[]): string[] {
  const text = line.join("");
  if (text.length <= width) return [text];
  const margin = /^ */.exec(text)?.[0] ?? "";
  if (text.startsWith(`${margin}--`)) return comment(text.slice(margin.length + 3), margin);
  const found = placesIn(line);
  if (found.length === 0) return [text];
  const parts = found.map((from, index) => line.slice(from, found[index + 1]));
  const [first = [], ...rest] = filled([line.slice(0, found[0]), ...parts], width, margin.length + 2);
  return [first, ...rest.map((part) => [`${margin}  `, ...part])].flatMap((part) => fitted(trimmed(part)));
}

function comment(text: string, margin: string): string[] {
  const rows: string[] = [];
  for (const word of text.split(" ")) {
    const row = rows.at(-1);
    if (row === undefined) rows.push(`${margin}-- ${word}`);
    else if (`${row} ${word}`.length <= width) rows[rows.length - 1] = `${row} ${word}`;
    else rows.push(`${margin}--   ${word}`);
  }
  return rows;
}

/** What stands after commas is written side by side, as far as there is room. All but the first row get a margin. */
function filled(parts: readonly string[][], room: number, margin: number): string[][] {
  const rows: string[][] = [];
  for (const part of parts) {
    const row = rows.at(-1);
    const isOfList = row?.findLast((token) => token.trim() !== "") === ",";
    const length = `${row?.join("")}${part.join("")}`.trimEnd().length + (rows.length > 1 ? margin : 0);
    if (row !== undefined && isOfList && length <= room) row.push(...part);
    else rows.push([...part]);
  }
  return rows;
}

function trimmed(line: readonly string[]): string[] {
  return line.at(-1)?.trim() === "" ? line.slice(0, -1) : [...line];
}

/** The places in which a line is broken: all of one kind, at the depth that is least. */
function placesIn(line: readonly string[]): number[] {
  const places: { readonly at: number; readonly depth: number; readonly kind: number }[] = [];
  let depth = 0;
  let cases = 0;
  let previous = "";
  for (const [at, token] of line.entries()) {
    if (token.trim() === "") continue;
    const kind = breaks.findIndex((isBreak) => isBreak(token, previous));
    if (kind >= 0 && previous !== "") places.push({ at, depth, kind });
    if (token === "case") cases += 1;
    const isEnd = cases > 0 && /^end\b/.test(token);
    if (isEnd) cases -= 1;
    if (token === "(" || token === "case") depth += 1;
    else if (token === ")" || isEnd) depth -= 1;
    previous = token;
  }
  const least = Math.min(...places.map((place) => place.depth));
  const here = places.filter((place) => place.depth === least);
  const weakest = Math.min(...here.map(({ kind }) => kind));
  return here.filter(({ kind }) => kind === weakest).map(({ at }) => at);
}
