import { createHash, timingSafeEqual } from "node:crypto";
import type { Source } from "../../conditions/source.js";
import { ConflictError, ConstraintError } from "../../database/errors.js";
import { readText } from "../../http/read-text.js";
import type { RoleStore } from "../../people/role-store.js";
import type { AnyDocument, DocumentTypes } from "../../schema/document-types.js";
import { timestampOf } from "../../schema/types/timestamp.js";
import type { StoredWrite } from "../../session/overlay.js";
import type { Portier } from "../../session/portier.js";
import { type Described, resourceTypes, schemas, serviceConfig } from "./discovery.js";
import { meetsFilter, namesIn } from "./filter.js";
import { groupTargets } from "./groups.js";
import { patched } from "./patch.js";
import { Provisioning, ProvisioningState, type ScimOptions } from "./provisioning.js";
import { type Query, queryOf, searchOf } from "./query.js";
import { type Resource, ScimError, urns } from "./resources.js";
import type { Selection } from "./selection.js";
import { writeProvisioned } from "./write-provisioned.js";

/** How people are provisioned over HTTP. */
export interface ScimHandlerOptions extends ScimOptions {
  /** The secret that a provisioning client sends as its bearer token; of several, any (so that one can be replaced). */
  readonly token: string | readonly string[];
  /** Where the service begins. Default: `/scim/v2`. */
  readonly base?: string;
  /** What one request may ask for; those left out keep their defaults. */
  readonly limits?: Partial<ScimLimits>;
  /** Told of what failed for another reason than the call itself. Default: nobody. */
  readonly onError?: (error: unknown) => void;
}

/** Bounds of provisioning requests. */
export interface ScimLimits {
  /** Bytes of a body at most. Default: 1 MiB. */
  readonly body: number;
  /** Resources of a list at most. Default: 200. */
  readonly page: number;
  /** Operations of a PATCH at most. Default: 5,000. */
  readonly operations: number;
}

const defaultLimits: ScimLimits = { body: 1_048_576, page: 200, operations: 5_000 };
const mediaType = "application/scim+json";

/**
 * A SCIM 2.0 service (RFC 7643, RFC 7644) for provisioning clients: users are the records of the people table, groups what the
 * application declares them to mean. A handler for any server that speaks the Fetch standard. What a call changes is
 * written as one, recorded, and refused where roles would exclude each other or a role would lose its last holders.
 *
 * Known are reading, searching, making, replacing, patching and deleting users; reading, searching, replacing and patching
 * groups; filters; `attributes` and `excludedAttributes`; pages; discovery. No sorting, no bulk, no entity tags. What a client
 * gives for an attribute that no field keeps is left out of a new or replaced user, and an error in a PATCH.
 *
 * @throws PortierError for options that name a field, role or group which the document does not have.
 *
 * @example
 * const handle = scimHandler(portier, store, {
 *   token: process.env.PROVISIONING_TOKEN,
 *   fields: { name: "displayName", active: "active" }, groups: { "Keepers of ships": "keeper" },
 * });
 */
export function scimHandler<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  store: RoleStore,
  options: ScimHandlerOptions,
): (request: Request) => Promise<Response> {
  const own = portier as unknown as Portier;
  const provisioning = new Provisioning(own, options);
  const limits = { ...defaultLimits, ...options.limits };
  const service: Service = { portier: own, store, provisioning, limits, base: options.base ?? "/scim/v2" };
  const tokens = [options.token].flat().map(digest);
  return async (request) => {
    try {
      if (!isKnown(request.headers.get("authorization"), tokens)) {
        throw new ScimError(401, "this needs the bearer token that was agreed on");
      }
      return await answered(service, request);
    } catch (error) {
      const known = error instanceof ScimError ? error : scimErrorOf(error, request.method);
      if (known !== undefined) return answer(known.status, known.toResource());
      options.onError?.(error);
      return answer(500, new ScimError(500, "the call failed; nothing was changed").toResource());
    }
  };
}

interface Service {
  readonly portier: Portier;
  readonly store: RoleStore;
  readonly provisioning: Provisioning;
  readonly limits: ScimLimits;
  readonly base: string;
}

/** What a caller can do something about, of what a store throws. */
function scimErrorOf(error: unknown, method: string): ScimError | undefined {
  if (error instanceof ConflictError) return new ScimError(503, "others are changing the same; nothing was done");
  if (!(error instanceof ConstraintError)) return undefined;
  if (method === "DELETE") {
    return new ScimError(409, "other records refer to this user; set active to false instead");
  }
  return new ScimError(409, "the database does not take it: a value that must be unique is taken", "uniqueness");
}

async function answered(service: Service, request: Request): Promise<Response> {
  const { base, limits } = service;
  const url = new URL(request.url);
  if (!url.pathname.startsWith(`${base}/`)) throw noSuchResource();
  const segments = url.pathname
    .slice(base.length + 1)
    .split("/")
    .map(decoded);
  const [kind = "", ...rest] = segments;
  const call: Call = { method: request.method, kind, id: rest.join("/"), root: `${url.origin}${base}` };
  if (call.method === "GET") {
    const found = fixedResource(service, call);
    return found === undefined ? answerGet(service, call, queryOf(url.searchParams)) : answer(200, found);
  }
  const isSearch = segments.at(-1) === ".search" && segments.length <= 2;
  if (isSearch && call.method !== "POST") throw new ScimError(405, `${call.method} has no meaning here`);
  const body = call.method === "DELETE" ? {} : await readBody(request, limits.body);
  if (!isSearch) return answerChange(service, call, body, queryOf(url.searchParams));
  const kinds = segments.length === 1 ? ["Users", "Groups"] : [kind];
  return answer(200, await listOf(service, call, kinds, searchOf(body)));
}

interface Call {
  readonly method: string;
  readonly kind: string;
  readonly id: string;
  /** The address of the service. */
  readonly root: string;
}

function noSuchResource(): ScimError {
  return new ScimError(404, "there is no such resource");
}

function decoded(part: string): string {
  try {
    return decodeURIComponent(part);
  } catch {
    throw noSuchResource();
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

async function readBody(request: Request, most: number): Promise<Resource> {
  const read = await readText(request, most);
  if (read === "too-large") throw new ScimError(413, `a body has ${most} bytes at most`);
  if (read === "not-utf-8") throw new ScimError(400, "the body is not UTF-8", "invalidSyntax");
  let value: unknown;
  try {
    value = JSON.parse(read.text);
  } catch {
    throw new ScimError(400, "the body is not JSON", "invalidSyntax");
  }
  if (typeof value === "object" && value !== null && !Array.isArray(value)) return value as Resource;
  throw new ScimError(400, "the body must be an object", "invalidSyntax");
}

async function answerGet(service: Service, call: Call, query: Query): Promise<Response> {
  const { kind, id } = call;
  if (kind !== "Users" && kind !== "Groups") throw noSuchResource();
  if (id === "") return answer(200, await listOf(service, call, [kind], query));
  const found = await service.store.read((source) => oneOf(service, kind, id, source, query.selection));
  return answer(200, query.selection.of(located(found, call)));
}

function oneOf({ provisioning }: Service, kind: string, id: string, source: Source, selection: Selection): Resource {
  if (kind === "Users") return provisioning.user(id, source, selection.has("groups"));
  return provisioning.groups.one(id, source, selection.has("members"));
}

async function listOf(service: Service, call: Call, kinds: readonly string[], query: Query): Promise<Resource> {
  const { store, provisioning, limits } = service;
  const { filter, first, selection } = query;
  if (!kinds.every((kind) => kind === "Users" || kind === "Groups")) throw noSuchResource();
  const asked = filter === undefined ? [] : namesIn(filter).map((name) => name.toLowerCase());
  const count = Math.min(limits.page, Math.max(0, query.count ?? limits.page));
  const { total, page } = await store.read((source) => {
    const users = kinds.includes("Users") ? provisioning.users(source) : [];
    // Who is in which group is looked up for all only where the filter asks.
    const found = [
      ...(asked.includes("groups") ? users.map(({ id }) => provisioning.user(String(id), source)) : users),
      ...(kinds.includes("Groups") ? provisioning.groups.all(source, asked.includes("members")) : []),
    ].filter((one) => filter === undefined || meetsFilter(filter, one));
    const here = found.slice(first - 1, first - 1 + count);
    return {
      total: found.length,
      page: here.map((one) => oneOf(service, kindOf(one), String(one["id"]), source, selection)),
    };
  });
  const Resources = page.map((one) => selection.of(located(one, { ...call, kind: kindOf(one) })));
  return listResponse(Resources, total, first);
}

function listResponse(Resources: readonly Resource[], totalResults: number, startIndex: number): Resource {
  return { schemas: [urns.list], totalResults, startIndex, itemsPerPage: Resources.length, Resources };
}

function kindOf(resource: Resource): "Users" | "Groups" {
  return (resource["schemas"] as readonly string[]).includes(urns.group) ? "Groups" : "Users";
}

function located(resource: Resource, { kind, root }: Pick<Call, "kind" | "root">): Resource {
  const location = `${root}/${kind}/${encodeURIComponent(String(resource["id"]))}`;
  return { ...resource, meta: { ...(resource["meta"] as Resource), location } };
}

async function answerChange(service: Service, call: Call, body: Resource, query: Query): Promise<Response> {
  const { portier, store } = service;
  const { method, kind, id } = call;
  const now = timestampOf(new Date()) as string;
  const what = `${method} ${kind}${id === "" ? "" : `/${id}`}`;
  const done = await store.change(async (inside): Promise<Resource | undefined> => {
    const planned = await inside.read((source) => planOf(service, call, body, new ProvisioningState(source)));
    await writeProvisioned(portier, store, inside, planned.writes, what, now);
    const { shown } = planned;
    return shown === undefined
      ? undefined
      : inside.read((source) => oneOf(service, kind, shown, source, query.selection));
  });
  if (done === undefined) return new Response(null, { status: 204 });
  const shown = located(done, call);
  const location = String((shown["meta"] as Resource)["location"]);
  const isNew = method === "POST";
  return answer(isNew ? 201 : 200, query.selection.of(shown), isNew ? { location } : {});
}

interface Planned {
  readonly writes: readonly StoredWrite[];
  /** The id of what is answered once it is written; nothing after a delete. */
  readonly shown?: string;
}

function planOf({ provisioning, limits }: Service, call: Call, body: Resource, state: ProvisioningState): Planned {
  const { method, kind, id } = call;
  const { source } = state;
  const isOne = id !== "";
  if (kind === "Users") {
    if (method === "POST" && !isOne) {
      const writes = provisioning.createUser(body, state);
      return { writes, shown: String(writes[0]?.after?.[keyOf(writes)]) };
    }
    if (method === "PUT" && isOne) return { writes: provisioning.replaceUser(id, body, state), shown: id };
    if (method === "PATCH" && isOne) {
      const before = provisioning.user(id, source);
      const resource = patched(before, body, provisioning.userTargets, limits.operations);
      return { writes: provisioning.replaceUser(id, resource, state), shown: id };
    }
    if (method === "DELETE" && isOne) return { writes: provisioning.deleteUser(id, source) };
  }
  if (kind === "Groups") {
    if (method === "POST" && !isOne) return provisioning.groups.create(body);
    if (method === "PUT" && isOne) return { writes: provisioning.groups.replace(id, body, source), shown: id };
    if (method === "PATCH" && isOne) {
      const resource = patched(provisioning.groups.one(id, source), body, groupTargets, limits.operations);
      return { writes: provisioning.groups.replace(id, resource, source), shown: id };
    }
    if (method === "DELETE" && isOne) return provisioning.groups.delete(id);
  }
  if (kind === "Users" || kind === "Groups") throw new ScimError(405, `${method} has no meaning here`);
  throw noSuchResource();
}

function keyOf(writes: readonly StoredWrite[]): string {
  return writes[0]?.table.key[0]?.name ?? "";
}

/** What the service says of itself. */
function fixedResource({ provisioning, limits }: Service, { kind, id, root }: Call): Resource | undefined {
  const described: Described = { mappings: provisioning.mappings, key: provisioning.key, page: limits.page };
  const placed = (one: Resource, path: string): Resource => ({
    ...one,
    meta: { ...(one["meta"] as Resource), location: `${root}/${path}` },
  });
  if (kind === "ServiceProviderConfig" && id === "") return placed(serviceConfig(described), kind);
  if (kind !== "ResourceTypes" && kind !== "Schemas") return undefined;
  const all = (kind === "Schemas" ? schemas(described) : resourceTypes(described)).map((one) =>
    placed(one, `${kind}/${one["id"]}`),
  );
  if (id === "") return listResponse(all, all.length, 1);
  const found = all.find((one) => one["id"] === id);
  if (found === undefined) throw noSuchResource();
  return found;
}

function answer(status: number, body: Resource, headers: Readonly<Record<string, string>> = {}): Response {
  const more: Readonly<Record<number, Readonly<Record<string, string>>>> = {
    401: { "www-authenticate": "Bearer" },
    503: { "retry-after": "1" },
  };
  return new Response(JSON.stringify(body), {
    status,
    headers: { "content-type": mediaType, "cache-control": "no-store", ...more[status], ...headers },
  });
}
