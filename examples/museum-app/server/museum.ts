import type { Context, MiddlewareHandler } from "hono";
import type { Portier } from "portier";
import { type Connection, createDatabase, type UserDatabase } from "portier/database";
import { portierRoutes } from "portier/hono";
import type { Identity } from "portier/http";
import { databaseStore, type RoleStore } from "portier/people";
import { signedIn } from "./sign-in.js";

/** Everything that a request needs of the museum. */
export interface Museum {
  readonly portier: Portier;
  readonly connection: Connection;
  readonly store: RoleStore;
  /** The time that requests are judged at, where it is fixed. */
  readonly request: { readonly request?: { readonly now: string } };
  /** The current user, as the signed cookie says. */
  readonly authenticate: (context: Context) => Identity;
  readonly database: (context: Context) => UserDatabase;
  /** The routes of every table. */
  readonly records: MiddlewareHandler;
}

/** What a request finds in its context. */
export interface MuseumEnv {
  Variables: { museum: Museum };
}

/** A plan has more rows than a page of a list, and a block that is pasted into it more than a form. */
const limits = { maxPageSize: 5_000, maxBatch: 5_000, maxBodyBytes: 4_194_304 };

/** `now` fixes the time, for tests of what depends on the day. */
export function openMuseum(portier: Portier, connection: Connection, now: string | undefined): Museum {
  const database = createDatabase(portier, connection);
  const request = now === undefined ? {} : { request: { now } };
  const authenticate = (context: Context): Identity => {
    const { person = null, actedBy } = signedIn(context) ?? {};
    return { person, ...(actedBy === undefined ? {} : { actedBy }), ...request };
  };
  return {
    portier,
    connection,
    store: databaseStore(portier, connection),
    request,
    authenticate,
    database: (context) => database.as(authenticate(context)),
    records: portierRoutes({
      portier,
      connection,
      base: "/api",
      authenticate,
      // What photographing comes to is not of this demo: it is asked for, and done.
      actions: { objects: { photograph: async () => {} }, treatments: { finish: finishTreatment } },
      limits,
      onError: (error) => console.error(error),
    }),
  };
}

/** The screens of the current user. */
export function screensOf(context: Context<MuseumEnv>): Promise<readonly string[]> {
  return context
    .get("museum")
    .database(context)
    .ask((session) => session.screens());
}

/** The answer to whoever may not know of something. */
export function noSuchThing(context: Context): Response {
  return context.json({ title: "Not found", status: 404 }, 404);
}

async function finishTreatment(inside: Connection, record: Readonly<Record<string, unknown>>): Promise<void> {
  const { quoteName, placeholder } = inside.dialect;
  const text = `update ${quoteName("treatments")} set ${quoteName("finished_on")} = ${placeholder(1)} where ${quoteName("id")} = ${placeholder(2)}`;
  await inside.query(text, [new Date().toISOString().slice(0, 10), record["id"]]);
}
