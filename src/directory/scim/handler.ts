import { createHash, timingSafeEqual } from "node:crypto";
import type { Source } from "../../conditions/source.js";
import type { StoredWrite } from "../../people/overlay.js";
import type { RoleStore } from "../../people/role-store.js";
import type { AnyTables, TableTypes } from "../../schema/table-types.js";
import { timestampOf } from "../../schema/types/timestamp.js";
import type { Portier } from "../../session/portier.js";
import { filterOf } from "./filter.js";
import { patched } from "./patch.js";
import { Provisioning, type ScimOptions, writeProvisioned } from "./provisioning.js";
import { type Resource, ScimError, urns } from "./resources.js";

export interface ScimHandlerOptions extends ScimOptions {
  /** The secret that a provisioning client sends as its bearer token; of several, any (so that one can be replaced). */
  readonly token: string | readonly string[];
  /** Where the service begins. Default: `/scim/v2`. */
  readonly base?: string;
  /** Told of what failed for another reason than the call itself. Default: nobody. */
  readonly report?: (error: unknown) => void;
}

/** Bodies beyond this many bytes are not read. */
const bodyLimit = 1_000_000;
/** How many resources a list gives at most. */
const pageLimit = 200;
const mediaType = "application/scim+json";

/**
 * A small SCIM 2.0 service (RFC 7644) for provisioning clients: users are the records of the people table, groups what the
 * application declares them to mean. A handler for any server that speaks the Fetch standard. What a call changes is
 * written as one, recorded, and refused where roles would exclude each other or a role would lose its last holders.
 *
 * Known are reading, making, replacing, patching and deleting users; reading, replacing and patching groups; filters by
 * `eq`; paging. No sorting, no bulk, no entity tags.
 *
 * @throws PortierError for options that name a field, role or group which the document does not have.
 *
 * @example
 * const handle = scimHandler(portier, store, {
 *   token: process.env.PROVISIONING_TOKEN,
 *   fields: { name: "displayName", active: "active" }, groups: { "Keepers of ships": "keeper" },
 * });
 */
export function scimHandler<T extends TableTypes = AnyTables>(
  portier: Portier<T>,
  store: RoleStore,
  options: ScimHandlerOptions,
): (request: Request) => Promise<Response> {
  const own = portier as unknown as Portier;
  const provisioning = new Provisioning(own, options);
  const base = options.base ?? "/scim/v2";
  const tokens = [options.token].flat().map(digest);
  return async (request) => {
    try {
      if (!isKnown(request.headers.get("authorization"), tokens)) {
        throw new ScimError(401, "this needs the bearer token that was agreed on");
      }
      const url = new URL(request.url);
      if (!url.pathname.startsWith(`${base}/`)) throw new ScimError(404, "there is no such resource");
      const [kind = "", ...rest] = url.pathname
        .slice(base.length + 1)
        .split("/")
        .map(decoded);
      const id = rest.join("/");
      const call: Call = { method: request.method, kind, id, url, base };
      const fixed = fixedResource(call);
      if (fixed !== undefined) return answer(200, fixed);
      if (request.method === "GET") return await answerGet(store, provisioning, call);
      const body = request.method === "DELETE" ? {} : await readBody(request);
      return await answerChange(own, store, provisioning, call, body);
    } catch (error) {
      if (error instanceof ScimError) return answer(error.status, error.toResource());
      if (isReferred(error)) {
        const detail = "other records refer to this user; set active to false instead";
        return answer(409, new ScimError(409, detail).toResource());
      }
      options.report?.(error);
      return answer(500, new ScimError(500, "the call failed; nothing was changed").toResource());
    }
  };
}

/** Whether a database kept a record because others refer to it; every one of them says so in these words. */
function isReferred(error: unknown): boolean {
  return error instanceof Error && /foreign key/i.test(error.message);
}

interface Call {
  readonly method: string;
  readonly kind: string;
  readonly id: string;
  readonly url: URL;
  readonly base: string;
}

function decoded(part: string): string {
  try {
    return decodeURIComponent(part);
  } catch {
    throw new ScimError(404, "there is no such resource");
  }
}

function digest(text: string): Buffer {
  return createHash("sha256").update(text).digest();
}

/** Compared so that the time it takes tells nothing. An empty secret lets nobody in. */
function isKnown(header: string | null, tokens: readonly Buffer[]): boolean {
  const given = /^Bearer\s+(\S+)$/i.exec(header ?? "")?.[1];
  if (given === undefined) return false;
  const sent = digest(given);
  return tokens.map((token) => timingSafeEqual(token, sent)).some((same) => same);
}

async function readBody(request: Request): Promise<Resource> {
  const length = Number(request.headers.get("content-length") ?? 0);
  if (length > bodyLimit) throw new ScimError(413, "the body is too large");
  const text = await request.text();
  if (text.length > bodyLimit) throw new ScimError(413, "the body is too large");
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    throw new ScimError(400, "the body is not JSON", "invalidSyntax");
  }
  if (typeof value === "object" && value !== null && !Array.isArray(value)) return value as Resource;
  throw new ScimError(400, "the body must be an object", "invalidSyntax");
}

async function answerGet(
  store: RoleStore,
  provisioning: Provisioning,
  { kind, id, url, base }: Call,
): Promise<Response> {
  const found = await store.read((source) => {
    if (kind === "Users") return id === "" ? provisioning.users(source) : provisioning.user(id, source);
    if (kind === "Groups") return id === "" ? provisioning.groups(source) : provisioning.group(id, source);
    throw new ScimError(404, "there is no such resource");
  });
  const located = (one: Resource) => withLocation(one, kind, url, base);
  return answer(200, Array.isArray(found) ? listOf(found.map(located), url) : located(found as Resource));
}

function listOf(resources: readonly Resource[], url: URL): Resource {
  const meets = filterOf(url.searchParams.get("filter"));
  const found = resources.filter(meets);
  const first = Math.max(1, wholeNumber(url.searchParams.get("startIndex"), 1));
  const count = Math.min(pageLimit, Math.max(0, wholeNumber(url.searchParams.get("count"), pageLimit)));
  const page = found.slice(first - 1, first - 1 + count);
  const numbers = { totalResults: found.length, startIndex: first, itemsPerPage: page.length };
  return { schemas: [urns.list], ...numbers, Resources: page };
}

function wholeNumber(text: string | null, otherwise: number): number {
  const value = Number(text ?? otherwise);
  if (Number.isInteger(value)) return value;
  throw new ScimError(400, `${text} is no whole number`, "invalidValue");
}

function withLocation(resource: Resource, kind: string, url: URL, base: string): Resource {
  const location = `${url.origin}${base}/${kind}/${encodeURIComponent(String(resource["id"]))}`;
  return { ...resource, meta: { ...(resource["meta"] as Resource), location } };
}

async function answerChange(
  portier: Portier,
  store: RoleStore,
  provisioning: Provisioning,
  call: Call,
  body: Resource,
): Promise<Response> {
  const { method, kind, id, url, base } = call;
  const now = timestampOf(new Date()) as string;
  const done = await store.change(async (inside): Promise<Resource | undefined> => {
    const planned = await inside.read((source) => planOf(provisioning, call, body, source));
    await writeProvisioned(
      portier,
      store,
      inside,
      planned.writes,
      `${method} ${kind}${id === "" ? "" : `/${id}`}`,
      now,
    );
    const after = planned.shown;
    return after === undefined ? undefined : inside.read(after);
  });
  if (done === undefined) return new Response(null, { status: 204 });
  const shown = withLocation(done, kind, url, base);
  const location = String((shown["meta"] as Resource)["location"]);
  return answer(method === "POST" ? 201 : 200, shown, method === "POST" ? { location } : {});
}

interface Planned {
  readonly writes: readonly StoredWrite[];
  /** What is answered once it is written; nothing after a delete. */
  readonly shown?: (source: Source) => Resource;
}

function planOf(provisioning: Provisioning, { method, kind, id }: Call, body: Resource, source: Source): Planned {
  const isOne = id !== "";
  if (kind === "Users") {
    if (method === "POST" && !isOne) {
      const writes = provisioning.createUser(body, source);
      const made = writes[0]?.after;
      const key = String(made?.[keyOf(writes)]);
      return { writes, shown: (after) => provisioning.user(key, after) };
    }
    const shown = (after: Source) => provisioning.user(id, after);
    if (method === "PUT" && isOne) return { writes: provisioning.replaceUser(id, body, source), shown };
    if (method === "PATCH" && isOne) {
      const resource = patched(provisioning.user(id, source), body);
      return { writes: provisioning.replaceUser(id, resource, source), shown };
    }
    if (method === "DELETE" && isOne) return { writes: provisioning.deleteUser(id, source) };
  }
  if (kind === "Groups") {
    if (method === "POST" && !isOne) return provisioning.createGroup(body);
    const shown = (after: Source) => provisioning.group(id, after);
    if (method === "PUT" && isOne) return { writes: provisioning.replaceGroup(id, body, source), shown };
    if (method === "PATCH" && isOne) {
      const resource = patched(provisioning.group(id, source), body);
      return { writes: provisioning.replaceGroup(id, resource, source), shown };
    }
    if (method === "DELETE" && isOne) return provisioning.deleteGroup(id);
  }
  if (kind === "Users" || kind === "Groups") throw new ScimError(405, `${method} has no meaning here`);
  throw new ScimError(404, "there is no such resource");
}

function keyOf(writes: readonly StoredWrite[]): string {
  return writes[0]?.table.key[0]?.name ?? "";
}

/** What the service says of itself. */
function fixedResource({ method, kind, id, url, base }: Call): Resource | undefined {
  const types = (["User", "Group"] as const).map((name) => ({
    schemas: [urns.resourceType],
    id: name,
    name,
    endpoint: `/${name}s`,
    schema: name === "User" ? urns.user : urns.group,
    meta: { resourceType: "ResourceType", location: `${url.origin}${base}/ResourceTypes/${name}` },
  }));
  if (method !== "GET") return undefined;
  if (kind === "ResourceTypes" && id === "") return listOf(types, new URL("list:all"));
  if (kind === "ResourceTypes") return types.find((one) => one.id === id);
  if (kind !== "ServiceProviderConfig" || id !== "") return undefined;
  const no = { supported: false };
  return {
    schemas: [urns.config],
    patch: { supported: true },
    bulk: { ...no, maxOperations: 0, maxPayloadSize: 0 },
    filter: { supported: true, maxResults: pageLimit },
    changePassword: no,
    sort: no,
    etag: no,
    authenticationSchemes: [
      { type: "oauthbearertoken", name: "Bearer token", description: "A secret that was agreed on." },
    ],
    meta: { resourceType: "ServiceProviderConfig", location: `${url.origin}${base}/ServiceProviderConfig` },
  };
}

function answer(status: number, body: Resource, headers: Readonly<Record<string, string>> = {}): Response {
  return new Response(JSON.stringify(body), {
    status,
    headers: { "content-type": mediaType, ...(status === 401 ? { "www-authenticate": "Bearer" } : {}), ...headers },
  });
}
