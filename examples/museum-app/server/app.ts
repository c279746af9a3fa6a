import { readFileSync } from "node:fs";
import { extname, join, normalize } from "node:path";
import { type Context, Hono } from "hono";
import { streamSSE } from "hono/streaming";
import { type Portier, snapshotOf } from "portier";
import { type Connection, openDatabase } from "portier/database";
import { portierRoutes } from "portier/hono";
import type { Asking } from "portier/http";
import { databaseStore } from "portier/people";
import { roleRoutes } from "./roles.js";
import { signedIn, signIn, signOut } from "./sign-in.js";

const types: Readonly<Record<string, string>> = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };

/** Everything is from here; styles may be set on elements, as the component library does. */
const policy =
  "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'";

/**
 * The museum's application on a database: sign-in, the records, who holds what, and the page. `now` is a moment that stays,
 * for tests of what depends on the day.
 */
export function museumApp(portier: Portier, connection: Connection, pages: string, now?: string): Hono {
  const app = new Hono();
  const database = openDatabase(portier, connection);
  const store = databaseStore(portier, connection);
  const who = (context: Context): Asking => {
    const { person = null, actedBy } = signedIn(context) ?? {};
    return {
      person,
      ...(actedBy === undefined ? {} : { actedBy }),
      ...(now === undefined ? {} : { request: { now } }),
    };
  };
  const acting = (context: Context) => {
    const { person, ...options } = who(context);
    return database.as(person, options);
  };

  app.use(async (context, next) => {
    await next();
    context.header("content-security-policy", policy);
    context.header("x-content-type-options", "nosniff");
  });

  // The list of those who can be tried. A real house would have a sign-in instead.
  app.get("/api/people", async (context) => {
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
    const snapshot = await acting(context).ask((session) => snapshotOf(session));
    const { person, actedBy } = who(context);
    const nameOf = async (key: string | number | null | undefined) =>
      key === null || key === undefined
        ? undefined
        : store.read((source) => source.find("staff", String(key))?.["name"] as string | undefined);
    context.header("cache-control", "no-store");
    const shapes = Object.fromEntries(
      [...portier.schema.tables.values()].map((table) => [
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

  // Two windows: a role that is taken away in one is gone in the other without a new sign-in.
  app.get("/api/changes", (context) =>
    streamSSE(context, async (stream) => {
      const stop = await store.watch(() => void stream.writeSSE({ event: "roles", data: "changed" }));
      await stream.writeSSE({ event: "ready", data: "" });
      await new Promise<void>((resolve) => stream.onAbort(resolve));
      await stop();
    }),
  );

  app.route("/api/roles", roleRoutes(portier, store, who, acting));
  // What photographing comes to is not of this demo: it is asked for, and done.
  const acts = { objects: { photograph: async () => {} }, treatments: { finish: finishTreatment } };
  app.use(portierRoutes({ portier, connection, base: "/api", who, acts, onError: (error) => console.error(error) }));
  app.all("/api/*", (context) => context.json({ title: "There is no such thing", status: 404 }, 404));

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

async function finishTreatment(inside: Connection, record: Readonly<Record<string, unknown>>): Promise<void> {
  const { quoteName, placeholder } = inside.dialect;
  const text = `update ${quoteName("treatments")} set ${quoteName("finished_on")} = ${placeholder(1)} where ${quoteName("id")} = ${placeholder(2)}`;
  await inside.query(text, [new Date().toISOString().slice(0, 10), record["id"]]);
}
