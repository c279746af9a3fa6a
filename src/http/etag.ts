import type { Row } from "../conditions/source.js";

/**
 * The version of a record as one person sees it: a digest of what is shown to them, so that it tells nothing of what is
 * hidden, and does not change with it. (RFC 9110, 8.8.3)
 */
export async function etagOf(seen: Row | undefined): Promise<string> {
  const text = versionOf(seen);
  const digest = hash === undefined ? await webDigest(text) : hash("sha256", text, "hex");
  return `"${digest.slice(0, 32)}"`;
}

type Hash = (algorithm: "sha256", text: string, encoding: "hex") => string;

/** The digest of Node.js, where this runs there: that of the Web takes longer than the rest of an answer. */
const { process } = globalThis as { readonly process?: { getBuiltinModule?(name: string): { readonly hash?: Hash } } };
const hash = process?.getBuiltinModule?.("node:crypto").hash;

async function webDigest(text: string): Promise<string> {
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", new TextEncoder().encode(text)));
  return [...digest].map((byte) => byte.toString(16).padStart(2, "0")).join("");
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
