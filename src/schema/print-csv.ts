/**
 * Lines as CSV (RFC 4180). What a spreadsheet would take for a formula stands behind an apostrophe, so that it is a text:
 * at the start of a cell, and where a spreadsheet that takes another sign for the separator would begin one.
 */
export function printCsv(lines: readonly (readonly string[])[]): string {
  return lines.map((line) => `${line.map(quoted).join(",")}\r\n`).join("");
}

/** Where a cell begins, or could be taken to begin, with a sign that begins a formula; full-width signs do so, too. */
const formula = /(^|[;|\t\r\n])(\s*)(?=[=+\-@\uff1d\uff0b\uff0d\uff20])/g;

function quoted(text: string): string {
  // A number with a sign is a number.
  const isNumber = /^[+-]?\d+(?:\.\d+)?$/.test(text);
  const safe = isNumber ? text : text.replace(/^(?=[\t\r])/, "'").replace(formula, "$1$2'");
  return /[",;|\t\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}
