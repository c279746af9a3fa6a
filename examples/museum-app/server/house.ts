import type { Context, MiddlewareHandler } from "hono";
import type { Portier } from "portier";
import { type Acting, type Connection, openDatabase } from "portier/database";
import { portierRoutes } from "portier/hono";
import type { Asking } from "portier/http";
import { databaseStore, type RoleStore } from "portier/people";
import { signedIn } from "./sign-in.js";

/** Everything that a request needs of the house. */
export interface House {
  readonly portier: Portier;
  readonly connection: Connection;
  readonly store: RoleStore;
  /** The moment, where it stands still. */
  readonly request: { readonly request?: { readonly now: string } };
  /** Who asks. */
  readonly who: (context: Context) => Asking;
  readonly acting: (context: Context) => Acting;
  /** The routes of every table. */
  readonly records: MiddlewareHandler;
}

/** What a request finds in its context. */
export interface HouseEnv {
  Variables: { house: House };
}

/** A plan has more rows than a page of a list, and a block that is pasted into it more than a form. */
const limits = { mostPage: 5_000, many: 5_000, body: 4_194_304 };

/** `now` is a moment that stays, for tests of what depends on the day. */
export function openHouse(portier: Portier, connection: Connection, now: string | undefined): House {
  const database = openDatabase(portier, connection);
  const request = now === undefined ? {} : { request: { now } };
  const who = (context: Context): Asking => {
    const { person = null, actedBy } = signedIn(context) ?? {};
    return { person, ...(actedBy === undefined ? {} : { actedBy }), ...request };
  };
  return {
    portier,
    connection,
    store: databaseStore(portier, connection),
    request,
    who,
    acting: (context) => {
      const { person, ...options } = who(context);
      return database.as(person, options);
    },
    records: portierRoutes({
      portier,
      connection,
      base: "/api",
      who,
      // What photographing comes to is not of this demo: it is asked for, and done.
      acts: { objects: { photograph: async () => {} }, treatments: { finish: finishTreatment } },
      limits,
      onError: (error) => console.error(error),
    }),
  };
}

/** The pages that there are for who asks. */
export function screensOf(context: Context<HouseEnv>): Promise<readonly string[]> {
  return context
    .get("house")
    .acting(context)
    .ask((session) => session.screens());
}

/** The answer to whoever may not know of something. */
export function noSuchThing(context: Context): Response {
  return context.json({ title: "There is no such thing", status: 404 }, 404);
}

async function finishTreatment(inside: Connection, record: Readonly<Record<string, unknown>>): Promise<void> {
  const { quoteName, placeholder } = inside.dialect;
  const text = `update ${quoteName("treatments")} set ${quoteName("finished_on")} = ${placeholder(1)} where ${quoteName("id")} = ${placeholder(2)}`;
  await inside.query(text, [new Date().toISOString().slice(0, 10), record["id"]]);
}
