/** Lines as CSV (RFC 4180). What a spreadsheet would take for a formula stands behind an apostrophe, so that it is a text. */
export function printCsv(lines: readonly (readonly string[])[]): string {
  return lines.map((line) => `${line.map(quoted).join(",")}\r\n`).join("");
}

function quoted(text: string): string {
  // A number with a sign is a number.
  const isFormula = /^[=+\-@\t\r]/.test(text) && !/^[+-]?\d+(?:\.\d+)?$/.test(text);
  const safe = isFormula ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}
