/**
 * What a value becomes before it is compared: text, choices, dates, decimals and timestamps are strings in a canonical
 * spelling, integers are numbers. Two canonical values of one type are equal exactly when they are `===`.
 */
export type Scalar = string | number | boolean;

/**
 * Text order by Unicode code point, the same in memory and in every database. JavaScript's `<` orders by UTF-16 unit,
 * which puts U+10000 and above before U+E000; the fix-up moves surrogates behind everything else.
 */
export function compareText(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    const x = a.charCodeAt(i);
    const y = b.charCodeAt(i);
    if (x !== y) return codePointRank(x) - codePointRank(y);
  }
  return a.length - b.length;
}

function codePointRank(unit: number): number {
  if (unit < 0xd800) return unit;
  return unit < 0xe000 ? unit + 0x2000 : unit - 0x800;
}

/** False for what no database can hold or send as it is: the nul character, and halves of surrogate pairs. */
export function isStorable(value: unknown): boolean {
  if (typeof value === "string") return !value.includes("\0") && !/\p{Surrogate}/u.test(value);
  if (typeof value !== "object" || value === null) return true;
  return Object.entries(value).every(([key, part]) => isStorable(key) && isStorable(part));
}

/** A text as a condition writes it: in single quotes, with a quote doubled. */
export function quoteText(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}
