import type { Row } from "../conditions/source.js";
import type { Acting } from "../database/acting.js";
import { RecordChanged } from "../database/acting.js";
import { actionOf } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import { printCsv } from "../schema/print-csv.js";
import { isMapping } from "../schema/reader.js";
import type { Schema, Table } from "../schema/schema.js";
import type { Acceptance } from "../session/acceptance.js";
import type { ManyAcceptance } from "../session/many.js";
import type { Session } from "../session/session.js";
import { isTexts, readBody, readChange } from "./body.js";
import { etagOf, namesVersion, versionOf } from "./etag.js";
import type { HttpLimits, HttpOptions } from "./options.js";
import { HttpProblem, notAcceptedProblem, notFound, refusalOf } from "./problem.js";

/** What a route is answered with. */
export interface Call {
  readonly request: Request;
  readonly url: URL;
  /** The parts of the path that the route names, decoded: `{ table: "objects", key: "BM-SH-0001" }`. */
  readonly parts: Readonly<Record<string, string>>;
  readonly acting: Acting;
  readonly schema: Schema;
  readonly limits: HttpLimits;
  readonly options: Pick<HttpOptions, "acts" | "base">;
}

export interface Route {
  readonly method: "GET" | "POST" | "PATCH" | "DELETE";
  /** Segments; those with a colon take any. `:key` is a record's address as one encoded segment. */
  readonly path: string;
  /** One line, for the description of the interface. */
  readonly summary: string;
  readonly run: (call: Call) => Promise<Response>;
}

/** Every route, in the order of the description. */
export const routes: readonly Route[] = [
  { method: "GET", path: "/me", summary: "Who asks: roles, screens, and where they land", run: me },
  {
    method: "GET",
    path: "/records/:table",
    summary: "The records that one sees, filtered, sorted, page by page",
    run: list,
  },
  { method: "POST", path: "/records/:table", summary: "Makes a record", run: create },
  { method: "GET", path: "/records/:table/:key", summary: "One record as one sees it", run: view },
  {
    method: "PATCH",
    path: "/records/:table/:key",
    summary: "Changes a record; with If-Match only the version that was seen",
    run: edit,
  },
  { method: "DELETE", path: "/records/:table/:key", summary: "Deletes a record", run: remove },
  { method: "POST", path: "/acts/:table/:key/:action", summary: "Does what the table's own action is", run: act },
  {
    method: "GET",
    path: "/forms/:table",
    summary: "The form of a new record: fields, defaults, choices",
    run: newForm,
  },
  {
    method: "GET",
    path: "/forms/:table/:key",
    summary: "The form of a record: hidden, read-only, editable and to be confirmed fields",
    run: form,
  },
  {
    method: "GET",
    path: "/choices/:table/:field",
    summary: "What may be chosen for a field of a new record",
    run: choices,
  },
  {
    method: "GET",
    path: "/choices/:table/:field/:key",
    summary: "What may be chosen for a field of a record",
    run: choices,
  },
  {
    method: "PATCH",
    path: "/bulk/:table",
    summary: "The same values for many records: all of it, or nothing",
    run: bulk,
  },
  {
    method: "POST",
    path: "/imports/:table",
    summary: "Many new records with a result for each: all of them, or none",
    run: importMany,
  },
  { method: "GET", path: "/exports/:table", summary: "What may be taken out, as CSV (RFC 4180)", run: exportTable },
];

async function me({ acting }: Call): Promise<Response> {
  const body = await acting.ask((session) => ({
    person: session.person ?? null,
    ...(session.actedBy === undefined ? {} : { actedBy: session.actedBy }),
    roles: session.roles,
    screens: session.screens(),
    home: session.home() ?? null,
  }));
  return json(body);
}

const listKeys = ["where", "sort", "limit", "offset", "search"];

async function list(call: Call): Promise<Response> {
  const { url, acting, limits } = call;
  const table = tableOf(call);
  const asked = url.searchParams;
  const filters = [...asked].filter(([name]) => !listKeys.includes(name));
  const limit = numberOf(asked, "limit", limits.page);
  if (limit > limits.mostPage) throw new HttpProblem("bad-request", `A page has ${limits.mostPage} records at most.`);
  await mustKnow(call, table);
  const where = [
    ...asked.getAll("where"),
    ...filters.map(([name, value]) => equals(table, name, value)),
    ...searchOf(table, asked.get("search")),
  ];
  const sort = (asked.get("sort") ?? "").split(",").filter((name) => name !== "");
  const { records, total } = await acting.list(table.name, {
    where,
    sort,
    limit,
    offset: numberOf(asked, "offset", 0),
  });
  return json({ records, total });
}

/** A field's value as a condition: what does not fit the field is met by no record. */
function equals(table: Table, name: string, text: string): string {
  const field = table.byName.get(name);
  if (field === undefined) {
    const known = table.fields.map((one) => one.name).join(", ");
    throw new HttpProblem("bad-request", `There is no field "${name}" to filter by; there are ${known}.`);
  }
  const { type } = field;
  const value =
    type.canonical(text) ??
    type.canonical(Number(text)) ??
    type.canonical(text === "true" ? true : text === "false" ? false : text);
  const quoted = `"${name.replaceAll('"', '""')}"`;
  if (text === "") return `${quoted} is null`;
  return value === undefined ? "false" : `${quoted} = ${type.literal(value)}`;
}

/** Any text field that contains the words as they are. */
function searchOf({ fields }: Table, text: string | null): string[] {
  if (text === null || text === "") return [];
  const searched = fields.filter(
    ({ type, lookup, by }) => type.name === "text" && lookup === undefined && by === undefined,
  );
  const literal = `'${text.replaceAll("'", "''")}'`;
  const terms = searched.map(({ name }) => `"${name.replaceAll('"', '""')}" contains ${literal}`);
  return [terms.length === 0 ? "false" : `(${terms.join(" or ")})`];
}

async function view(call: Call): Promise<Response> {
  const { acting, parts, request } = call;
  const table = tableOf(call);
  const seen = await acting.about(table.name, parts["key"] ?? "", (session, record) => seenOf(session, table, record));
  if (seen === undefined) throw notFound();
  const etag = await etagOf(seen);
  const known = request.headers.get("if-none-match");
  if (known !== null && namesVersion(known, etag)) return new Response(null, { status: 304, headers: { etag } });
  return json(seen, { etag });
}

/** What a person sees of a record when it is opened, or where it may only be listed, then. */
function seenOf(session: Session, table: Table, record: Row | undefined): Row | undefined {
  return record === undefined
    ? undefined
    : (session.mask(table.name, record) ?? session.mask(table.name, record, "list"));
}

async function create(call: Call): Promise<Response> {
  const { acting, request, limits, options } = call;
  const table = tableOf(call);
  const { values, options: change } = readChange(await readBody(request, limits.body));
  const outcome = await acting.create(table.name, values, change);
  if (!outcome.accepted) {
    await mustKnow(call, table, "create");
    throw notAcceptedProblem(outcome);
  }
  const key = outcome.record === undefined ? undefined : recordAddress(table, outcome.record);
  const location = `${options.base ?? ""}/records/${encodeURIComponent(table.name)}/${encodeURIComponent(key ?? "")}`;
  return changed(call, table, key, outcome, 201, { location });
}

async function edit(call: Call): Promise<Response> {
  const { acting, request, limits, parts } = call;
  const table = tableOf(call);
  const key = parts["key"] ?? "";
  const { values, options } = readChange(await readBody(request, limits.body));
  const expecting = await expected(call, table, key);
  const outcome = await acting.edit(table.name, key, values, { ...options, ...expecting });
  if (!outcome.accepted) throw notAcceptedProblem(outcome);
  return changed(call, table, key, outcome, 200);
}

async function remove(call: Call): Promise<Response> {
  const { acting, parts, url } = call;
  const table = tableOf(call);
  const key = parts["key"] ?? "";
  const confirmed = url.searchParams.getAll("confirmed");
  const outcome = await acting.delete(table.name, key, { confirmed, ...(await expected(call, table, key)) });
  if (!outcome.accepted) throw notAcceptedProblem(outcome);
  return new Response(null, { status: 204 });
}

async function act(call: Call): Promise<Response> {
  const { acting, parts, request, limits, options } = call;
  const table = tableOf(call);
  const [key, action] = [parts["key"] ?? "", parts["action"] ?? ""];
  const work = Object.hasOwn(options.acts ?? {}, table.name) ? options.acts?.[table.name] : undefined;
  const run = work !== undefined && Object.hasOwn(work, action) ? work[action] : undefined;
  if (!table.actions.includes(action) || run === undefined) throw notFound();
  const body = request.headers.has("content-type") ? await readBody(request, limits.body) : {};
  const { options: change } = readChange(body);
  const outcome = await acting.act(action as never, table.name, key, run, {
    ...change,
    ...(await expected(call, table, key)),
  });
  if (!outcome.accepted) throw notAcceptedProblem(outcome);
  return changed(call, table, key, outcome, 200);
}

/** What may be taken out of a table, as a file: the fields that are exported in some record, empty where they are not. */
async function exportTable(call: Call): Promise<Response> {
  const table = tableOf(call);
  await mustKnow(call, table);
  const { records } = await call.acting.list(table.name, { action: "export" });
  const fields = table.fields.filter(({ name }) => records.some((record) => Object.hasOwn(record, name)));
  const lines = records.map((record) => fields.map(({ name }) => textOf(record[name])));
  const body = printCsv([fields.map(({ name }) => name), ...lines]);
  const file = `${table.name.replaceAll(/[^\w-]/g, "_")}.csv`;
  const headers = {
    "content-type": "text/csv; charset=utf-8",
    "content-disposition": `attachment; filename="${file}"`,
  };
  return new Response(body, { headers: { ...headers, "cache-control": "private, no-cache" } });
}

function textOf(value: unknown): string {
  if (value === null || value === undefined) return "";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

async function newForm(call: Call): Promise<Response> {
  const table = tableOf(call);
  await mayCreate(call, table);
  return json(await call.acting.ask((session) => session.form(table.name)));
}

async function form(call: Call): Promise<Response> {
  const { acting, parts } = call;
  const table = tableOf(call);
  const answer = await acting.about(table.name, parts["key"] ?? "", (session, record) => {
    const found = record === undefined ? undefined : session.form(table.name, record);
    return found === undefined ? undefined : { found, seen: seenOf(session, table, record) };
  });
  if (answer === undefined) throw notFound();
  return json(answer.found, { etag: await etagOf(answer.seen) });
}

async function choices(call: Call): Promise<Response> {
  const { acting, parts } = call;
  const table = tableOf(call);
  const field = parts["field"] ?? "";
  if (!table.byName.has(field)) throw notFound();
  const key = parts["key"];
  if (key === undefined) {
    await mayCreate(call, table);
    return json({ choices: (await acting.ask((session) => session.choices(table.name, field as never))) ?? null });
  }
  const found = await acting.about(table.name, key, (session, record) => {
    const isKnown = record !== undefined && seenOf(session, table, record) !== undefined;
    return isKnown ? { choices: session.choices(table.name, field as never, record) ?? null } : undefined;
  });
  if (found === undefined) throw notFound();
  return json(found);
}

async function bulk(call: Call): Promise<Response> {
  const { acting, request, limits } = call;
  const table = tableOf(call);
  const body = await readBody(request, limits.body);
  const { keys } = body;
  if (!isTexts(keys)) throw new HttpProblem("bad-request", '"keys" must be a list of keys, as texts.');
  mustBeFew(keys.length, limits);
  const { values, options } = readChange(body, ["keys"]);
  await mustKnow(call, table);
  return many(await acting.editMany(table.name, keys, values, options));
}

async function importMany(call: Call): Promise<Response> {
  const { acting, request, limits } = call;
  const table = tableOf(call);
  const body = await readBody(request, limits.body);
  const { records } = body;
  if (!Array.isArray(records) || !records.every(isMapping)) {
    throw new HttpProblem("bad-request", '"records" must be a list of objects.');
  }
  mustBeFew(records.length, limits);
  const { options } = readChange(body, ["records"]);
  await mustKnow(call, table, "import");
  return many(await acting.createMany(table.name, records, options));
}

function mustBeFew(count: number, { many: most }: HttpLimits): void {
  if (count > most) throw new HttpProblem("too-large", `${most} records at a time at most.`);
}

/** A result for each, in order; what is refused refuses all of it, and says so by the status. */
function many({ accepted, results }: ManyAcceptance): Response {
  const told = results.map((one) =>
    one.accepted
      ? { accepted: true }
      : {
          accepted: false,
          reason: one.reason,
          refusals: one.refusals.map(refusalOf),
          ...(one.confirm && { confirm: one.confirm }),
        },
  );
  return json({ accepted, results: told }, {}, accepted ? 200 : 422);
}

/** The record after a change, as the person sees it then; it may be gone for them. */
async function changed(
  { acting }: Call,
  table: Table,
  key: string | undefined,
  outcome: Extract<Acceptance, { accepted: true }>,
  status: number,
  headers: Readonly<Record<string, string>> = {},
): Promise<Response> {
  const seen =
    key === undefined
      ? undefined
      : await acting.about(table.name, key, (session, record) => seenOf(session, table, record));
  const body = { record: seen ?? null, dropped: outcome.dropped.map(refusalOf) };
  return json(body, { ...headers, ...(seen === undefined ? {} : { etag: await etagOf(seen) }) }, status);
}

/** What `If-Match` asks for: the record must be as it was seen when it was read, and stay so until it is locked. */
async function expected({ acting, request }: Call, table: Table, key: string) {
  const header = request.headers.get("if-match");
  if (header === null) return {};
  const seen = await acting.about(table.name, key, (session, record) => seenOf(session, table, record));
  if (seen === undefined) throw notFound();
  if (!namesVersion(header, await etagOf(seen))) throw new RecordChanged("the record is not as it was seen");
  if (header.trim() === "*") return {};
  const version = versionOf(seen);
  return { expecting: (now: Row | undefined) => versionOf(now) === version };
}

/** The table of the path; one that is not served is none. */
function tableOf({ schema, parts }: Call): Table {
  const table = schema.tables.get(parts["table"] ?? "");
  if (table === undefined) throw notFound();
  return table;
}

/** A table of which a person may do nothing at all does not exist for them, nor does the action that asked. */
async function mustKnow({ acting }: Call, table: Table, action: "list" | "create" | "import" = "list"): Promise<void> {
  const isKnown = await acting.ask((session) => {
    const asked = ["list", "view", "create", "import", action].filter((one) => actionOf(table, one) !== undefined);
    return asked.some((one) => session.reach(one as never, table.name) !== "none");
  });
  if (!isKnown) throw notFound();
}

/** Whoever may make no record of a table is told so, unless they know nothing of it at all. */
async function mayCreate(call: Call, table: Table): Promise<void> {
  await mustKnow(call, table, "create");
  if ((await call.acting.ask((session) => session.reach("create", table.name))) !== "none") return;
  throw new HttpProblem("refused", "You may not create this.");
}

function numberOf(asked: URLSearchParams, name: string, otherwise: number): number {
  const text = asked.get(name);
  if (text === null) return otherwise;
  if (/^\d{1,9}$/.test(text)) return Number(text);
  throw new HttpProblem("bad-request", `"${name}" must be a whole number.`);
}

/** What is shown is one person's view, at this moment: nobody between may keep it. */
export function json(body: unknown, headers: Readonly<Record<string, string>> = {}, status = 200): Response {
  return new Response(JSON.stringify(body), {
    status,
    headers: { "content-type": "application/json", "cache-control": "private, no-cache", ...headers },
  });
}
