import { readFileSync } from "node:fs";
import { extname, join, normalize } from "node:path";
import { Hono } from "hono";
import { streamSSE } from "hono/streaming";
import { type Portier, snapshotOf } from "portier";
import type { Connection } from "portier/database";
import { boundedBody } from "./bounded-body.js";
import { type MuseumEnv, noSuchThing, openMuseum } from "./museum.js";
import { planRoutes } from "./plan.js";
import { roleRoutes } from "./roles.js";
import { onlyFromHere, signIn, signOut } from "./sign-in.js";

const types: Readonly<Record<string, string>> = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };

/** Everything is from here; styles may be set on elements, as the component library does. */
const policy =
  "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'";

/** Bytes of a body at most: a workbook, or a block that is pasted. */
const largestBody = 5_000_000;

function problem(status: number, title: string, headers: Readonly<Record<string, string>> = {}): Response {
  return Response.json({ title, detail: "Nothing was changed.", status }, { status, headers });
}

export interface MuseumOptions {
  /** An instant at which the day stands still, for tests of what depends on the day. */
  readonly now?: string | undefined;
  /** The names under which it is reached; a request for another one is not for it. */
  readonly hosts?: readonly string[];
}

/**
 * The museum's application on a database: sign-in, the records, the plan, who holds what, and the page.
 */
export function museumApp(
  portier: Portier,
  connection: Connection,
  pages: string,
  { now, hosts = ["127.0.0.1", "localhost"] }: MuseumOptions = {},
): Hono<MuseumEnv> {
  const app = new Hono<MuseumEnv>();
  const museum = openMuseum(portier, connection, now);

  app.use(
    "/api/*",
    boundedBody(largestBody, () => problem(413, "The request is too large")),
  );
  app.use("/api/*", onlyFromHere(hosts));

  app.use("/api/*", async (context, next) => {
    context.set("museum", museum);
    await next();
  });

  app.use(async (context, next) => {
    await next();
    context.header("content-security-policy", policy);
    context.header("x-content-type-options", "nosniff");
  });

  // The list of those who can be tried. A real application would have a sign-in instead.
  app.get("/api/people", async (context) => {
    const { store } = context.get("museum");
    const people = await store.read((source) =>
      [...(source.all?.("staff") ?? [])].map(({ id, name, post, active }) => ({ id, name, post, active })),
    );
    const delegations = await store.read((source) =>
      [...(source.all?.("portier_delegations") ?? [])].map((row) => ({ of: row["of"], to: row["to"] })),
    );
    return context.json({ people, delegations });
  });
  app.post("/api/sign-in", async (context) => {
    // A form of another page cannot send JSON.
    if (!/^application\/json\b/i.test(context.req.header("content-type") ?? "")) return problem(415, "Send JSON");
    const body: unknown = await context.req.json().catch(() => null);
    const { person, actedBy } = (body ?? {}) as { person?: unknown; actedBy?: unknown };
    if (typeof person !== "string" || (actedBy !== undefined && typeof actedBy !== "string")) {
      return context.json({ title: "Name the person who signs in" }, 400);
    }
    signIn(context, { person, ...(actedBy === undefined ? {} : { actedBy }) });
    return context.body(null, 204);
  });
  app.post("/api/sign-out", (context) => {
    signOut(context);
    return context.body(null, 204);
  });

  // What the page needs to draw: the plan of the current user, and the shapes of the tables in it.
  app.get("/api/session", async (context) => {
    const { store, database, authenticate } = context.get("museum");
    const snapshot = await database(context).ask((session) => snapshotOf(session));
    const { person, actedBy } = authenticate(context);
    const nameOf = async (key: string | number | null | undefined) =>
      key === null || key === undefined
        ? undefined
        : store.read((source) => source.find("staff", String(key))?.["name"] as string | undefined);
    context.header("cache-control", "no-store");
    const shapes = Object.fromEntries(
      [...portier.schema.tables.values()].map((table) => [
        table.name,
        {
          label: table.label,
          key: table.key.map(({ name }) => name),
          actions: table.actions,
          fields: table.fields.map(({ name, label, type, lookup }) => ({
            name,
            label,
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

  // Two windows: a role that is taken away in one is gone in the other without a new sign-in, and so is what is protected.
  app.get("/api/changes", (context) =>
    streamSSE(context, async (stream) => {
      const over = new Promise<void>((resolve) => stream.onAbort(resolve));
      const tell = () => void stream.writeSSE({ event: "access", data: "changed" });
      const stop = await museum.store.watch(tell);
      await stream.writeSSE({ event: "ready", data: "" });
      if (!stream.aborted) await over;
      await stop();
    }),
  );

  app.route("/api/roles", roleRoutes());
  app.route("/api/plan", planRoutes());
  app.use("/api/*", (context, next) => context.get("museum").records(context, next));
  app.all("/api/*", noSuchThing);

  app.get("*", (context) => {
    const path = normalize(new URL(context.req.url).pathname);
    const file = extname(path) === "" ? "/index.html" : path;
    try {
      const body = readFileSync(join(pages, file));
      return context.body(body, 200, { "content-type": types[extname(file)] ?? "application/octet-stream" });
    } catch {
      return context.text("Page not found.", 404);
    }
  });
  return app;
}
