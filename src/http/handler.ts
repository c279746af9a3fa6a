import { createDatabase } from "../database/create-database.js";
import { ConflictError, ConstraintError, RecordChanged, ReplicaBehind } from "../database/errors.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { PortierError } from "../schema/problems.js";
import type { Portier } from "../session/portier.js";
import { accepts } from "./accept.js";
import type { Call } from "./call.js";
import { bulkEdit, create, edit, editEach, importRecords, perform, remove } from "./change-routes.js";
import { description } from "./description.js";
import { defaultLimits, type HttpOptions } from "./options.js";
import { HttpProblem, problemResponse } from "./problem.js";
import { choices, exportRecords, form, list, me, newForm, view } from "./read-routes.js";
import { type Route, type RouteName, routes } from "./routes.js";

/** Answers a request; undefined for a path that is none of the routes', for the server to go on. */
export type AccessHandler = (request: Request) => Promise<Response | undefined>;

/**
 * Serves a document's tables over HTTP, to any server that speaks `Request` and `Response`: what is read is masked, what
 * is changed is judged, in one transaction of the database. Problems are answered as in RFC 9457; a record that a person
 * does not know of answers as one that is not there.
 *
 * @throws PortierError (`wrong-call`) where the document observes a table and nobody is told of it, or a table is not there.
 *
 * @example
 * const handle = accessHandler({ portier, connection, base: "/api", authenticate: async (request) => ({ person: await signedIn(request) }) });
 * const response = (await handle(request)) ?? new Response(null, { status: 404 });
 */
export function accessHandler<T extends DocumentTypes = AnyDocument>(options: HttpOptions<T>): AccessHandler {
  const {
    portier,
    connection,
    replica,
    observe,
    authenticate,
    base = "",
    tables,
    limits,
    onDiagnostic,
    messages,
    onError,
    challenge = "Bearer",
  } = options;
  const served = { ...portier.schema, tables: servedTables(portier.schema.tables, tables) };
  const database = createDatabase(portier as unknown as Portier, connection, {
    ...(observe && { observe }),
    ...(replica && { replica }),
    onDiagnostic,
  });
  return async (request) => {
    const url = new URL(request.url);
    const path = pathUnder(base, url.pathname);
    if (path === undefined) return undefined;
    try {
      const found = findRoute(request.method, path);
      if (found === undefined) return undefined;
      if ("allow" in found) {
        if (request.method === "OPTIONS") return new Response(null, { status: 204, headers: { allow: found.allow } });
        return problemResponse("wrong-method", { detail: `This path takes ${found.allow}.` }, { allow: found.allow });
      }
      const type = found.route.answer === "file" ? "text/csv" : "application/json";
      if (!accepts(request.headers.get("accept"), type)) {
        return problemResponse("not-acceptable", { detail: `It can be had as ${type}.` });
      }
      const identity = await authenticate(request);
      if (identity === undefined) return problemResponse("not-signed-in", {}, { "www-authenticate": challenge });
      if (identity instanceof Response) return identity;
      const response = await runs[found.route.name]({
        request,
        url,
        parts: found.parts,
        database: database.as(identity, { messages: messages?.(request) }),
        schema: served,
        limits: { ...defaultLimits, ...limits },
        options: {
          base,
          actions: options.actions ?? {},
          ...(options.description && { description: options.description }),
        },
      });
      return request.method === "HEAD" ? new Response(null, response) : response;
    } catch (error) {
      return failed(error, request, onError);
    }
  };
}

const runs: Readonly<Record<RouteName, (call: Call) => Promise<Response>>> = {
  description,
  me,
  list,
  create,
  editEach,
  view,
  edit,
  delete: remove,
  perform,
  newForm,
  form,
  choices,
  choicesOf: choices,
  bulkEdit,
  import: importRecords,
  export: exportRecords,
};

function servedTables<V>(all: ReadonlyMap<string, V>, wanted: readonly string[] | undefined): ReadonlyMap<string, V> {
  return wanted === undefined ? all : new Map([...all].filter(([name]) => wanted.includes(name)));
}

/** The decoded segments of a path under the base; undefined for another path, or one that cannot be decoded. */
function pathUnder(base: string, path: string): readonly string[] | undefined {
  if (path !== base && !path.startsWith(`${base}/`)) return undefined;
  try {
    return path
      .slice(base.length + 1)
      .split("/")
      .map(decodeURIComponent);
  } catch {
    return undefined;
  }
}

type FoundRoute =
  | { readonly route: Route; readonly parts: Readonly<Record<string, string>> }
  | { readonly allow: string };

const patterns = routes.map((route) => ({ route, pattern: route.path.slice(1).split("/") }));

function findRoute(method: string, path: readonly string[]): FoundRoute | undefined {
  const matching = patterns.flatMap(({ route, pattern }) => {
    const parts = partsOf(pattern, path);
    return parts === undefined ? [] : [{ route, parts }];
  });
  if (matching.length === 0) return undefined;
  // What can be read can be asked for without its body (RFC 9110, 9.3.2).
  const wanted = method === "HEAD" ? "GET" : method;
  const found = matching.find(({ route }) => route.method === wanted);
  if (found !== undefined) return found;
  const methods = matching.flatMap(({ route }) => (route.method === "GET" ? ["GET", "HEAD"] : [route.method]));
  return { allow: [...new Set([...methods, "OPTIONS"])].join(", ") };
}

function partsOf(pattern: readonly string[], path: readonly string[]): Record<string, string> | undefined {
  if (pattern.length !== path.length) return undefined;
  const parts: Record<string, string> = Object.create(null) as Record<string, string>;
  for (const [index, segment] of pattern.entries()) {
    const given = path[index] ?? "";
    if (segment.startsWith(":")) {
      if (given === "") return undefined;
      parts[segment.slice(1)] = given;
    } else if (segment !== given) return undefined;
  }
  return parts;
}

/** Codes of what a caller can be wrong in; anything else is not theirs to know. */
const callersFaults: ReadonlySet<string> = new Set([
  "condition-syntax",
  "condition-depth",
  "type-mismatch",
  "not-ordered",
  "unknown-choice",
  "not-a-list",
  "bad-literal",
  "bad-duration",
  "misplaced-may",
  "misplaced-member",
  "unknown-field",
  "unknown-table",
  "unknown-action",
  "not-a-reference",
  "wrong-call",
  "bad-value",
  "no-people",
  "unknown-request",
]);

function failed(error: unknown, request: Request, onError: HttpOptions["onError"]): Response {
  if (error instanceof HttpProblem) return problemResponse(error.kind, { detail: error.message, ...error.more });
  if (error instanceof RecordChanged) {
    return problemResponse("changed", { detail: "Look at it again, and repeat what is still wanted." });
  }
  if (error instanceof ConflictError || error instanceof ReplicaBehind) {
    return problemResponse("busy", { detail: "Nothing was done. Try again." }, { "retry-after": "1" });
  }
  if (error instanceof ConstraintError) return problemResponse("constraint", { detail: "Nothing was done." });
  if (error instanceof PortierError && callersFaults.has(error.code)) {
    const problems = error.problems.map(({ message, hint, offset }) => ({ message, hint, offset }));
    return problemResponse("bad-request", { detail: problems.map(({ message }) => message).join("; "), problems });
  }
  onError?.(error, request);
  return problemResponse("fault", { detail: "Nothing was done." });
}
