/**
 * The record of what was done is a chain: each entry carries a digest (SHA-256, in hex) of itself and of the digest before it,
 * so that a change, a hole or a cut is found by working it out again.
 */
export interface AuditVerification {
  /** How many entries follow each other without a break from the first. */
  readonly entries: number;
  /** The digest of the last of them; empty where there is none. Noted elsewhere, it shows a record that was written anew. */
  readonly head: string;
  /**
   * What is wrong with the next one: it is not as it was written, one is missing before it, or the last ones are missing; or
   * the known digest is nowhere in it.
   */
  readonly problem?: "changed" | "missing" | "truncated" | "unknown-digest";
}

/** What the audit log is checked against. */
export interface VerifyOptions {
  /** A digest that was the head once: the log must still contain it. */
  readonly knownDigest?: string;
}

/** What every place where this runs has (Web Cryptography): Node.js and browsers. */
interface Platform {
  readonly crypto: { readonly subtle: { digest(algorithm: "SHA-256", bytes: Uint8Array): Promise<ArrayBuffer> } };
  readonly TextEncoder: new () => { encode(text: string): Uint8Array };
}

/** The digest of what comes after another. */
export async function linkAfter(previous: string, content: string): Promise<string> {
  const { crypto, TextEncoder } = globalThis as unknown as Platform;
  const bytes = new TextEncoder().encode(`${previous}\n${content}`);
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", bytes));
  return [...digest].map((byte) => byte.toString(16).padStart(2, "0")).join("");
}

/** Works a chain out again, link by link. */
export class ChainCheck {
  #head = "";
  #entries = 0;
  #isBroken = false;
  #hasKnown: boolean;
  readonly #knownDigest: string | undefined;

  constructor({ knownDigest }: VerifyOptions = {}) {
    this.#knownDigest = knownDigest;
    this.#hasKnown = knownDigest === undefined;
  }

  /** Takes the next link in; false once one does not fit. */
  async takes(content: string, digest: string): Promise<boolean> {
    if (this.#isBroken || (await linkAfter(this.#head, content)) !== digest) {
      this.#isBroken = true;
      return false;
    }
    this.#head = digest;
    this.#entries += 1;
    this.#hasKnown ||= digest === this.#knownDigest;
    return true;
  }

  /** What was found, once all links were taken in: `expected` is the head that is kept beside the record. */
  result(expected: string, broken?: "changed" | "missing"): AuditVerification {
    const found = { entries: this.#entries, head: this.#head };
    if (broken !== undefined || this.#isBroken) return { ...found, problem: broken ?? "changed" };
    if (expected !== this.#head) return { ...found, problem: "truncated" };
    return this.#hasKnown ? found : { ...found, problem: "unknown-digest" };
  }
}
