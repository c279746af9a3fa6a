/**
 * A statement on as few lines as fit: what is too long is broken before its outermost "from", "where", "or", "and",
 * "when", or after its commas, and what stands in brackets is indented. Quoted names and texts stay whole.
 */
export function layoutSql(text: string, width: number, indent = ""): string {
  if (indent.length + text.length <= width) return text;
  const [first = text, ...parts] = partsOf(text);
  if (parts.length > 0) {
    const lines = parts.map((part) => {
      const deeper = isSubordinate(part, text) ? `${indent}  ` : indent;
      return `\n${deeper}${layoutSql(part, width, deeper)}`;
    });
    return layoutSql(first, width, indent) + lines.join("");
  }
  const group = longestGroup(text);
  if (group === undefined) return text;
  const deeper = `${indent}  `;
  const { before, inside, after } = group;
  return `${before}(\n${deeper}${layoutSql(inside, width, deeper)}\n${indent})${after}`;
}

/** From the outermost kind of break inwards: a text is broken at the first kind that it has. */
const breaks: readonly RegExp[] = [
  /^ (?=union )/,
  /^ (?=(?:from|where) )/,
  /^ (?=left join )/,
  /^ (?=or )/,
  /^ (?=and )/,
  /^, /,
  /^ (?=(?:when|else|end)\b)/,
];

/** What belongs to the line above it: columns to their select, cases to their "case". */
function isSubordinate(part: string, whole: string): boolean {
  return (
    /^(?:when|else|left join)\b/.test(part) || (whole.startsWith("select ") && !/^(?:from|where|union) /.test(part))
  );
}

function partsOf(text: string): readonly string[] {
  for (const kind of breaks) {
    const parts: string[] = [];
    let start = 0;
    for (const at of topLevel(text)) {
      const found = at === 0 ? null : kind.exec(text.slice(at, at + 12));
      if (found === null) continue;
      parts.push(text.slice(start, found[0] === ", " ? at + 1 : at));
      start = at + found[0].length;
    }
    if (parts.length > 0) return [...parts, text.slice(start)];
  }
  return [text];
}

interface Group {
  readonly before: string;
  readonly inside: string;
  readonly after: string;
}

function longestGroup(text: string): Group | undefined {
  let longest: Group | undefined;
  let open = 0;
  let depth = 0;
  for (const [at, sign] of unquoted(text)) {
    if (sign === "(" && depth++ === 0) open = at;
    if (sign !== ")" || --depth > 0) continue;
    const group = { before: text.slice(0, open), inside: text.slice(open + 1, at), after: text.slice(at + 1) };
    if (longest === undefined || group.inside.length > longest.inside.length) longest = group;
  }
  return longest;
}

/** The places that are in no brackets, quotes or cases inside a case. */
function* topLevel(text: string): Generator<number> {
  let depth = 0;
  let cases = 0;
  for (const [at, sign] of unquoted(text)) {
    if (sign === "(") depth++;
    else if (sign === ")") depth--;
    if (depth > 0) continue;
    const isWord = at === 0 || /[ (]/.test(text[at - 1] as string);
    if (isWord && /^case\b/.test(text.slice(at, at + 5)) && at > 0) cases++;
    if (cases === 0 && sign !== ")") yield at;
    if (isWord && /^end\b/.test(text.slice(at, at + 4)) && cases > 0) cases--;
  }
}

function* unquoted(text: string): Generator<readonly [number, string]> {
  let quote: string | undefined;
  for (let at = 0; at < text.length; at++) {
    const sign = text[at] as string;
    if (quote !== undefined) {
      if (sign === quote) quote = undefined;
    } else if (sign === "'" || sign === '"' || sign === "`") quote = sign;
    else yield [at, sign];
  }
}
