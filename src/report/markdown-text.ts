/** A code span: between more backticks than there are in it. */
export function code(text: string): string {
  const longest = Math.max(0, ...[...text.matchAll(/`+/g)].map(([run]) => run.length));
  const fence = "`".repeat(longest + 1);
  return longest === 0 ? `${fence}${text}${fence}` : `${fence} ${text} ${fence}`;
}

/** What people wrote as it is, and not as marks. */
export function plain(text: string): string {
  return text.replace(/[\\`*_{}[\]<>#|]/g, (sign) => `\\${sign}`);
}
