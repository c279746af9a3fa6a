import { createHmac, randomBytes, timingSafeEqual } from "node:crypto";
import type { Context, MiddlewareHandler } from "hono";
import { deleteCookie, getCookie, setCookie } from "hono/cookie";

/** Who is signed in: a person, or one who acts for another. */
export interface SignedIn {
  readonly person: string;
  /** Who acts for that person, where it is another. */
  readonly actedBy?: string;
}

// The sign-in of this demo believes whoever comes: it stands for the application's own. What matters here is that the
// page cannot set the current user, only the signed cookie.
const secret = process.env["MUSEUM_SECRET"] ?? randomBytes(32).toString("hex");
const name = "museum";

function sign(text: string): string {
  return createHmac("sha256", secret).update(text).digest("base64url");
}

export function signIn(context: Context, who: SignedIn): void {
  const text = Buffer.from(JSON.stringify(who)).toString("base64url");
  setCookie(context, name, `${text}.${sign(text)}`, { httpOnly: true, sameSite: "Strict", path: "/" });
}

export function signOut(context: Context): void {
  deleteCookie(context, name, { path: "/" });
}

/** Undefined for a visitor, and for a cookie that is not from here. */
export function signedIn(context: Context): SignedIn | undefined {
  const [text = "", signature = ""] = (getCookie(context, name) ?? "").split(".");
  const [given, wanted] = [Buffer.from(signature), Buffer.from(sign(text))];
  if (given.length !== wanted.length || !timingSafeEqual(given, wanted)) return undefined;
  return JSON.parse(Buffer.from(text, "base64url").toString()) as SignedIn;
}

/**
 * Lets nothing in that another page sends in somebody's name: a request is for one of the names of this service, and what
 * changes something comes from its own pages.
 */
export function onlyFromHere(hosts: readonly string[]): MiddlewareHandler {
  return async (context, next) => {
    const { host, hostname } = new URL(context.req.url);
    const origin = context.req.header("origin");
    const changes = !["GET", "HEAD", "OPTIONS"].includes(context.req.method);
    const isForeign = origin !== undefined && hostOf(origin) !== host;
    if (!hosts.includes(hostname) || (changes && isForeign)) {
      return context.json({ title: "This request does not come from here", status: 403 }, 403);
    }
    await next();
    return undefined;
  };
}

function hostOf(origin: string): string | undefined {
  return URL.canParse(origin) ? new URL(origin).host : undefined;
}
