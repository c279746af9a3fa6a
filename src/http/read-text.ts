/**
 * The body of a request as text, with no more of it read than `most` bytes: the length that was announced may be a lie, or
 * missing. What is beyond is not waited for: a copy of the request may be the one that it goes to.
 */
export async function readText(
  request: Request,
  most: number,
): Promise<{ readonly text: string } | "too-large" | "not-utf-8"> {
  if (Number(request.headers.get("content-length") ?? 0) > most) return "too-large";
  const decoder = new TextDecoder("utf-8", { fatal: true });
  const reader = request.body?.getReader();
  let text = "";
  let size = 0;
  for (;;) {
    const part = await reader?.read();
    try {
      if (part === undefined || part.done) return { text: text + decoder.decode() };
      size += part.value.byteLength;
      if (size <= most) {
        text += decoder.decode(part.value, { stream: true });
        continue;
      }
    } catch {
      return "not-utf-8";
    }
    reader?.cancel().catch(() => {});
    return "too-large";
  }
}
