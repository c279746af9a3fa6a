import { type Context, Hono } from "hono";
import type { Portier } from "portier";
import type { Acting } from "portier/database";
import type { Asking } from "portier/http";
import { administration, type RoleChange, type RoleStore } from "portier/people";

/** Who holds what, and giving and taking it: for those whom the administration screen is shown. */
export function roleRoutes(
  portier: Portier,
  store: RoleStore,
  who: (context: Context) => Asking,
  acting: (context: Context) => Acting,
): Hono {
  const app = new Hono();
  const giver = (context: Context) => {
    const { person, ...options } = who(context);
    return administration(portier, store).as(String(person), options);
  };
  app.use(async (context, next) => {
    const screens = await acting(context).ask((session) => session.screens());
    if (!screens.includes("administration")) return context.json({ title: "There is no such thing", status: 404 }, 404);
    await next();
    return undefined;
  });
  app.get("/", async (context) => {
    const assignments = await store.read((source) => [...(source.all?.("portier_assignments") ?? [])]);
    const roles = [...portier.schema.roles.values()].map(({ name, note, scope }) => ({ name, note, scope }));
    return context.json({ assignments, roles, entries: await store.entries({ limit: 20 }) });
  });
  app.post("/preview", async (context) => {
    const { change } = (await context.req.json()) as { change: RoleChange };
    return context.json(await giver(context).preview(change));
  });
  app.post("/", async (context) => {
    const { change, confirmed = [] } = (await context.req.json()) as { change: RoleChange; confirmed?: string[] };
    const outcome = await giver(context).make(change, { confirmed });
    return context.json(outcome, outcome.accepted ? 200 : 409);
  });
  app.onError((error, context) =>
    context.json({ title: "This change cannot be read", detail: error.message, status: 400 }, 400),
  );
  return app;
}
