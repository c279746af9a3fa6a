import { readFileSync } from "node:fs";
import { extname, join, normalize } from "node:path";
import { Hono } from "hono";
import { streamSSE } from "hono/streaming";
import { snapshotOf } from "portier";
import type { Connection } from "portier/database";
import { type House, type HouseEnv, houseUnder, noSuchThing } from "./house.js";
import { planRoutes } from "./plan.js";
import { roleRoutes } from "./roles.js";
import { type KeptRules, written } from "./rules.js";
import { signIn, signOut } from "./sign-in.js";

const types: Readonly<Record<string, string>> = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };

/** Everything is from here; styles may be set on elements, as the component library does. */
const policy =
  "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'";

/** How often a request is begun anew, as the rules change. */
const mostTurns = 10;

/**
 * The museum's application on a database: sign-in, the records, the plan, who holds what, and the page. The rules are in
 * the database, too, as the plan's ranges are changed here. `now` is a moment that stays, for tests of what depends on the
 * day.
 */
export function museumApp(rules: KeptRules, connection: Connection, pages: string, now?: string): Hono<HouseEnv> {
  const app = new Hono<HouseEnv>();
  let house: House | undefined;

  // Each request is answered under the rules that count when it comes. Where they have changed on its way, and nothing was
  // written yet, it is answered once more under the new ones.
  app.use("/api/*", async (context, next) => {
    const current = await rules.current();
    if (house?.rules !== current) house = houseUnder(current, connection, now);
    context.set("house", house);
    const again = context.req.raw.clone();
    const request = { isWritten: false };
    await written.run(request, next);
    const { turn = 1 } = context.env;
    const mayAgain = !context.res.ok && !request.isWritten && turn < mostTurns;
    const isStale = mayAgain && (await rules.current()) !== current;
    if (isStale) context.res = await app.fetch(again, { ...context.env, turn: turn + 1 });
  });

  app.use(async (context, next) => {
    await next();
    context.header("content-security-policy", policy);
    context.header("x-content-type-options", "nosniff");
  });

  // The list of those who can be tried. A real house would have a sign-in instead.
  app.get("/api/people", async (context) => {
    const { store } = context.get("house");
    const people = await store.read((source) =>
      [...(source.all?.("staff") ?? [])].map(({ id, name, post, active }) => ({ id, name, post, active })),
    );
    const delegations = await store.read((source) =>
      [...(source.all?.("portier_delegations") ?? [])].map((row) => ({ of: row["of"], to: row["to"] })),
    );
    return context.json({ people, delegations });
  });
  app.post("/api/sign-in", async (context) => {
    const { person, actedBy } = (await context.req.json()) as { person?: unknown; actedBy?: unknown };
    if (typeof person !== "string" || (actedBy !== undefined && typeof actedBy !== "string")) {
      return context.json({ title: "Say who signs in" }, 400);
    }
    signIn(context, { person, ...(actedBy === undefined ? {} : { actedBy }) });
    return context.body(null, 204);
  });
  app.post("/api/sign-out", (context) => {
    signOut(context);
    return context.body(null, 204);
  });

  // What the page needs to draw: the plan of who asks, and the shapes of the tables in it.
  app.get("/api/session", async (context) => {
    const { store, rules: held, acting, who } = context.get("house");
    const snapshot = await acting(context).ask((session) => snapshotOf(session));
    const { person, actedBy } = who(context);
    const nameOf = async (key: string | number | null | undefined) =>
      key === null || key === undefined
        ? undefined
        : store.read((source) => source.find("staff", String(key))?.["name"] as string | undefined);
    context.header("cache-control", "no-store");
    const shapes = Object.fromEntries(
      [...held.portier.schema.tables.values()].map((table) => [
        table.name,
        {
          key: table.key.map(({ name }) => name),
          actions: table.actions,
          fields: table.fields.map(({ name, type, lookup }) => ({
            name,
            type: type.name,
            ...(type.choices === undefined ? {} : { choices: type.choices }),
            ...(type.target === undefined ? {} : { target: type.target }),
            ...(lookup === undefined ? {} : { isLookup: true }),
          })),
        },
      ]),
    );
    const names = { name: (await nameOf(person)) ?? null, actedByName: (await nameOf(actedBy)) ?? null };
    return context.json({ snapshot, shapes, person, actedBy: actedBy ?? null, ...names });
  });

  // Two windows: a role that is taken away in one is gone in the other without a new sign-in, and so are ranges that move.
  app.get("/api/changes", (context) =>
    streamSSE(context, async (stream) => {
      const tell = () => void stream.writeSSE({ event: "access", data: "changed" });
      const stops = [await context.get("house").store.watch(tell), await rules.watch(tell)];
      await stream.writeSSE({ event: "ready", data: "" });
      await new Promise<void>((resolve) => stream.onAbort(resolve));
      for (const stop of stops) await stop();
    }),
  );

  app.route("/api/roles", roleRoutes());
  app.route("/api/plan", planRoutes(rules));
  app.use("/api/*", (context, next) => context.get("house").records(context, next));
  app.all("/api/*", noSuchThing);

  app.get("*", (context) => {
    const path = normalize(new URL(context.req.url).pathname);
    const file = extname(path) === "" ? "/index.html" : path;
    try {
      const body = readFileSync(join(pages, file));
      return context.body(body, 200, { "content-type": types[extname(file)] ?? "application/octet-stream" });
    } catch {
      return context.text("There is no such page.", 404);
    }
  });
  return app;
}
