import type { Context, MiddlewareHandler } from "hono";
import { accessHandler } from "../http/handler.js";
import type { HttpOptions } from "../http/options.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import type { Identity } from "../session/identity.js";

/** The options of {@link accessHandler}; `authenticate` is given Hono's context, where the application keeps its session. */
export interface HonoOptions<T extends DocumentTypes = AnyDocument> extends Omit<HttpOptions<T>, "authenticate"> {
  /** Says who the current user is; undefined is answered by 401. */
  readonly authenticate: (
    context: Context,
  ) => Identity | Response | undefined | Promise<Identity | Response | undefined>;
}

/**
 * The routes of {@link accessHandler} as a middleware of Hono. A path that is none of them goes on to the next handler.
 *
 * @example
 * app.use(portierRoutes({ portier, connection, base: "/api", authenticate: (context) => ({ person: context.get("person") }) }));
 */
export function portierRoutes<T extends DocumentTypes = AnyDocument>({
  authenticate,
  ...options
}: HonoOptions<T>): MiddlewareHandler {
  const contexts = new WeakMap<Request, Context>();
  const handle = accessHandler<T>({
    ...options,
    authenticate: (request) => {
      const context = contexts.get(request);
      return context === undefined ? undefined : authenticate(context);
    },
  });
  return async (context, next) => {
    contexts.set(context.req.raw, context);
    const response = await handle(context.req.raw);
    if (response === undefined) await next();
    return response;
  };
}
