import type { MiddlewareHandler } from "hono";

/**
 * Reads the body of a request before anything else does, and no more of it than `most` bytes. One that is longer is read to
 * its end for a while, so that whoever sends it can read the answer.
 */
export function boundedBody(most: number, tooLarge: () => Response): MiddlewareHandler {
  return async (context, next) => {
    const { raw } = context.req;
    if (raw.body === null) return next();
    const parts: Uint8Array[] = [];
    let size = 0;
    const reader = raw.body.getReader();
    for (;;) {
      const { done, value } = await reader.read();
      if (done) break;
      size += value.length;
      if (size <= most) parts.push(value);
      else parts.length = 0;
      if (size > 4 * most) {
        void reader.cancel().catch(() => {});
        break;
      }
    }
    if (size > most) return tooLarge();
    context.req.raw = new Request(raw, { body: Buffer.concat(parts) });
    return next();
  };
}
