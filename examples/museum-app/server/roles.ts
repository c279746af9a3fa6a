import { type Context, Hono } from "hono";
import { administration, type RoleChange } from "portier/people";
import { type MuseumEnv, noSuchThing, screensOf } from "./museum.js";

/** Who holds what, and giving and taking it: for those whom the administration screen is shown. */
export function roleRoutes(): Hono<MuseumEnv> {
  const app = new Hono<MuseumEnv>();
  const assigner = (context: Context<MuseumEnv>) => {
    const { authenticate, portier, store } = context.get("museum");
    const { person, ...more } = authenticate(context);
    return administration(portier, store).as({ ...more, person: person ?? "" });
  };
  app.use(async (context, next) => {
    if (!(await screensOf(context)).includes("administration")) return noSuchThing(context);
    await next();
    return undefined;
  });
  app.get("/", async (context) => {
    const { store, portier } = context.get("museum");
    const assignments = await store.read((source) => [...(source.all?.("portier_assignments") ?? [])]);
    // From least to most, so that the first is the one for a newcomer.
    const offered = (await assigner(context).assignable()).map(({ role: name, note }) => ({ name, note }));
    const scoped = [...portier.schema.roles.values()].filter(({ scope }) => scope !== undefined);
    const roles = [...offered, ...scoped.map(({ name, note, scope }) => ({ name, note, scope }))];
    return context.json({ assignments, roles, entries: await store.auditLog({ limit: 20 }) });
  });
  app.post("/preview", async (context) => {
    const { change } = (await context.req.json()) as { change: RoleChange };
    return context.json(await assigner(context).preview(change));
  });
  app.post("/", async (context) => {
    const { change, confirmed = [] } = (await context.req.json()) as { change: RoleChange; confirmed?: string[] };
    const outcome = await assigner(context).make(change, { confirmed });
    return context.json(outcome, outcome.accepted ? 200 : 409);
  });
  app.onError((error, context) =>
    context.json({ title: "This change cannot be read", detail: error.message, status: 400 }, 400),
  );
  return app;
}
