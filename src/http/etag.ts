import type { Row } from "../conditions/source.js";

/**
 * The version of a record as one person sees it: a digest of what is shown to them, so that it tells nothing of what is
 * hidden, and does not change with it. (RFC 9110, 8.8.3)
 */
export async function etagOf(seen: Row | undefined): Promise<string> {
  const bytes = new TextEncoder().encode(versionOf(seen));
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", bytes));
  const half = [...digest.slice(0, 16)].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return `"${half}"`;
}

/** What is shown as one text, whatever the order of its fields. */
export function versionOf(seen: Row | undefined): string {
  const entries = Object.entries(seen ?? {}).sort(([a], [b]) => (a < b ? -1 : 1));
  return JSON.stringify(entries);
}

/**
 * Whether a header names a version; `*` names any. A weak one (`W/"..."`) is a version for `If-None-Match`, and none for
 * `If-Match` (RFC 9110, 13.1).
 */
export function namesVersion(header: string, etag: string, comparison: "strong" | "weak"): boolean {
  const names = header.split(",").map((one) => one.trim());
  return names.some((one) => ["*", etag].includes(comparison === "weak" ? one.replace(/^W\//, "") : one));
}
