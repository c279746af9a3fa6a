import type { Context, MiddlewareHandler } from "hono";
import { accessHandler } from "../http/handler.js";
import type { Asking, HttpOptions } from "../http/options.js";
import type { AnyTables, TableTypes } from "../schema/table-types.js";

/** As for {@link accessHandler}, but that who asks is found out from Hono's context, where the application keeps its session. */
export interface HonoOptions<T extends TableTypes = AnyTables> extends Omit<HttpOptions<T>, "who"> {
  readonly who: (context: Context) => Asking | Response | undefined | Promise<Asking | Response | undefined>;
}

/**
 * The routes of {@link accessHandler} as a middleware of Hono. A path that is none of them goes on to the next handler.
 *
 * @example
 * app.use(portierRoutes({ portier, connection, base: "/api", who: (context) => ({ person: context.get("person") }) }));
 */
export function portierRoutes<T extends TableTypes = AnyTables>({
  who,
  ...options
}: HonoOptions<T>): MiddlewareHandler {
  const contexts = new WeakMap<Request, Context>();
  const handle = accessHandler<T>({
    ...options,
    who: (request) => {
      const context = contexts.get(request);
      return context === undefined ? undefined : who(context);
    },
  });
  return async (context, next) => {
    contexts.set(context.req.raw, context);
    const response = await handle(context.req.raw);
    if (response === undefined) await next();
    return response;
  };
}
