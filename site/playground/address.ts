import type { Written } from "./play.js";

// What is written stands in the page's address, behind the "#", which no server is sent: whoever has the link has it all.

/** Bytes through one of the browser's own streams. */
async function through(bytes: Uint8Array, stream: GenericTransformStream): Promise<Uint8Array> {
  const body = new Blob([bytes as BlobPart])
    .stream()
    .pipeThrough(stream as ReadableWritablePair<Uint8Array, Uint8Array>);
  return new Uint8Array(await new Response(body).arrayBuffer());
}

export async function toAddress(written: Written): Promise<string> {
  const packed = await through(new TextEncoder().encode(JSON.stringify(written)), new CompressionStream("deflate-raw"));
  return btoa(String.fromCharCode(...packed))
    .replaceAll("+", "-")
    .replaceAll("/", "_")
    .replaceAll("=", "");
}

/** Undefined for an address that holds nothing of this kind. */
export async function fromAddress(hash: string): Promise<Written | undefined> {
  try {
    const text = atob(hash.replace(/^#/, "").replaceAll("-", "+").replaceAll("_", "/"));
    const bytes = Uint8Array.from(text, (character) => character.charCodeAt(0));
    const plain = new TextDecoder().decode(await through(bytes, new DecompressionStream("deflate-raw")));
    const { rules, data } = JSON.parse(plain) as Written;
    const isWritten = typeof rules === "string" && Object.values(data).every((one) => typeof one === "string");
    return isWritten ? { rules, data } : undefined;
  } catch {
    return undefined;
  }
}
