import type { IncomingMessage, ServerResponse } from "node:http";
import { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import type { ReadableStream as NodeStream } from "node:stream/web";
import { accessHandler } from "../http/handler.js";
import type { HttpOptions } from "../http/options.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import type { Identity } from "../session/identity.js";

/** The options of {@link accessHandler}; `authenticate` is given the server's own request, where the application keeps its session. */
export interface NodeOptions<R extends IncomingMessage = IncomingMessage, T extends DocumentTypes = AnyDocument>
  extends Omit<HttpOptions<T>, "authenticate"> {
  /** Says who the current user is; undefined is answered by 401. */
  readonly authenticate: (request: R) => Identity | Response | undefined | Promise<Identity | Response | undefined>;
}

/** A listener of `node:http`, a middleware of Express 4 and 5. Without `next`, what is none of the routes answers 404. */
export type NodeRoutes<R extends IncomingMessage = IncomingMessage> = (
  request: R,
  response: ServerResponse,
  next?: (error?: unknown) => void,
) => void;

/**
 * The routes of {@link accessHandler} for servers that speak Node's own requests and responses. Put it before whatever reads
 * bodies: what has been read already is taken as it was understood. `base` is the whole path, also where it is mounted.
 *
 * @example
 * createServer(nodeRoutes({ portier, connection, base: "/api", authenticate: (request) => ({ person: personOf(request) }) })).listen(3000);
 * app.use(nodeRoutes<express.Request>({ portier, connection, base: "/api", authenticate: (request) => ({ person: request.user }) }));
 */
export function nodeRoutes<R extends IncomingMessage = IncomingMessage, T extends DocumentTypes = AnyDocument>(
  options: NodeOptions<R, T>,
): NodeRoutes<R> {
  const answer = answerer(options);
  return (request, response, next) => {
    answer(request, response).then(
      (isAnswered) => {
        if (isAnswered) return;
        if (next !== undefined) return next();
        response.statusCode = 404;
        response.end();
      },
      (error: unknown) => {
        if (next !== undefined && !response.headersSent) return next(error);
        if (!response.headersSent) response.statusCode = 500;
        response.end();
      },
    );
  };
}

/** What this needs of a request and a reply of Fastify. */
export interface FastifyRequest {
  readonly raw: IncomingMessage;
}

/** What is used of a reply of Fastify. */
export interface FastifyReply {
  readonly raw: ServerResponse;
  hijack(): unknown;
}

/**
 * The routes of {@link accessHandler} as a hook of Fastify, which answers before bodies are read.
 *
 * @example
 * fastify.addHook("onRequest", fastifyHook({ portier, connection, base: "/api", authenticate: (request) => ({ person: personOf(request) }) }));
 */
export function fastifyHook<T extends DocumentTypes = AnyDocument>(
  options: NodeOptions<IncomingMessage, T>,
): (request: FastifyRequest, reply: FastifyReply) => Promise<void> {
  const answer = answerer(options);
  return async (request, reply) => {
    await answer(request.raw, reply.raw, () => reply.hijack());
  };
}

/** Answers what is one of the routes, and says whether it was. */
function answerer<R extends IncomingMessage, T extends DocumentTypes>({ authenticate, ...options }: NodeOptions<R, T>) {
  const originals = new WeakMap<Request, R>();
  const handle = accessHandler<T>({
    ...options,
    authenticate: (request) => {
      const original = originals.get(request);
      return original === undefined ? undefined : authenticate(original);
    },
  });
  return async (request: R, response: ServerResponse, onAnswer = () => {}): Promise<boolean> => {
    const made = requestOf(request, response);
    if (made !== undefined) originals.set(made, request);
    const answer = made === undefined ? new Response(null, { status: 400 }) : await handle(made);
    if (answer === undefined) return false;
    onAnswer();
    await write(answer, response);
    return true;
  };
}

/** Where a server was not told who it is called, nothing depends on it: only the path counts. */
const origin = "http://localhost";

/** A request of Node as one that `fetch` knows; undefined for one that is none there, as in its address or a header. */
function requestOf(request: IncomingMessage, response: ServerResponse): Request | undefined {
  const { method = "GET", url = "/", rawHeaders } = request;
  // Where it is mounted under a path, Express takes that off the address.
  const { originalUrl = url, body } = request as { originalUrl?: string; body?: unknown };
  const aborted = new AbortController();
  response.once("close", () => {
    if (!response.writableFinished) aborted.abort();
  });
  try {
    const headers = new Headers();
    for (let i = 0; i < rawHeaders.length; i += 2) {
      const [name = "", value = ""] = [rawHeaders[i], rawHeaders[i + 1]];
      if (!name.startsWith(":")) headers.append(name, value);
    }
    const { signal } = aborted;
    const address = new URL(originalUrl.startsWith("/") ? `${origin}${originalUrl}` : originalUrl);
    if (method === "GET" || method === "HEAD") return new Request(address, { method, headers, signal });
    const isRead = request.readableEnded || (body !== undefined && request.readableDidRead);
    if (isRead) headers.delete("content-length");
    const sent = isRead ? bodyAgain(body) : (Readable.toWeb(request) as unknown as Sent);
    // A body that streams must say so: it is sent before anything is answered.
    return new Request(address, { method, headers, signal, body: sent, duplex: "half" } as RequestInit);
  } catch {
    return undefined;
  }
}

type Sent = NonNullable<RequestInit["body"]> | null;

/** A body that something before this has read and understood. */
function bodyAgain(body: unknown): Sent {
  if (body === undefined || body === null) return null;
  if (typeof body === "string" || body instanceof Uint8Array) return body as Sent;
  return JSON.stringify(body);
}

async function write(answer: Response, response: ServerResponse): Promise<void> {
  response.statusCode = answer.status;
  for (const [name, value] of answer.headers) if (name !== "set-cookie") response.setHeader(name, value);
  const cookies = answer.headers.getSetCookie();
  if (cookies.length > 0) response.setHeader("set-cookie", cookies);
  if (answer.body === null) {
    response.end();
    return;
  }
  // Whoever asked has gone: nobody is left to be told.
  await pipeline(Readable.fromWeb(answer.body as NodeStream), response).catch(() => response.destroy());
}
