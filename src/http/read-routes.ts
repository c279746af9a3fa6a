import { printCsv } from "../schema/print-csv.js";
import type { Table } from "../schema/schema.js";
import { seenOf } from "../session/seen.js";
import type { Session } from "../session/session.js";
import { type Call, isKnown, json, knownTo, ofOnePerson, tableOf } from "./call.js";
import { etagOf, namesVersion } from "./etag.js";
import { HttpProblem, notFound } from "./problem.js";
import { fieldConditions, namesIn, quoted } from "./query.js";

export async function me({ database }: Call): Promise<Response> {
  const body = await database.ask((session) => ({
    person: session.person ?? null,
    ...(session.actedBy === undefined ? {} : { actedBy: session.actedBy }),
    roles: session.roles,
    screens: session.screens(),
    home: session.home() ?? null,
  }));
  return json(body);
}

export async function list(call: Call): Promise<Response> {
  const { url, database, limits } = call;
  const table = tableOf(call);
  const asked = url.searchParams;
  const limit = numberOf(asked, "limit", limits.pageSize);
  if (limit > limits.maxPageSize)
    throw new HttpProblem("bad-request", `A page has ${limits.maxPageSize} records at most.`);
  const offset = numberOf(asked, "offset", 0);
  const after = asked.get("after");
  const isCounted = asked.get("total") ?? "true";
  if (isCounted !== "true" && isCounted !== "false") {
    throw new HttpProblem("bad-request", '"total" must be true or false.');
  }
  const page = await database.list(table.name, (session) => {
    const known = knownTo(session, table);
    const where = [
      ...asked.getAll("where"),
      ...fieldConditions(table, known, asked),
      ...searchOf(known, asked.get("search")),
    ];
    const sort = namesIn(asked, "sort");
    return { where, sort, limit, offset, total: isCounted === "true", ...(after !== null && { after }) };
  });
  return json({ records: page.records, total: page.total ?? null, next: page.next ?? null });
}

/** Any text field that contains the words as they are. */
function searchOf({ fields }: Table, text: string | null): string[] {
  if (text === null || text === "") return [];
  const searched = fields.filter(
    ({ type, lookup, by }) => type.name === "text" && lookup === undefined && by === undefined,
  );
  const literal = `'${text.replaceAll("'", "''")}'`;
  const terms = searched.map((field) => `${quoted(field)} contains ${literal}`);
  return [terms.length === 0 ? "false" : `(${terms.join(" or ")})`];
}

export async function view(call: Call): Promise<Response> {
  const { database, parts, request } = call;
  const table = tableOf(call);
  const seen = await database.about(table.name, parts["key"] ?? "", (session, record) =>
    seenOf(session, table.name, record),
  );
  if (seen === undefined) throw notFound();
  const etag = await etagOf(seen);
  const known = request.headers.get("if-none-match");
  if (known !== null && namesVersion(known, etag, "weak")) {
    return new Response(null, { status: 304, headers: { etag, "cache-control": ofOnePerson } });
  }
  return json(seen, { etag });
}

/** What may be taken out of a table, as a file: the fields that are exported in some record, empty where they are not. */
export async function exportRecords(call: Call): Promise<Response> {
  const table = tableOf(call);
  const { records } = await call.database.list(table.name, (session) => {
    knownTo(session, table);
    return { action: "export" };
  });
  const fields = table.fields.filter(({ name }) => records.some((record) => Object.hasOwn(record, name)));
  const lines = records.map((record) => fields.map(({ name }) => textOf(record[name])));
  const body = printCsv([fields.map(({ name }) => name), ...lines]);
  const file = `${table.name.replaceAll(/[^\w-]/g, "_")}.csv`;
  const headers = {
    "content-type": "text/csv; charset=utf-8",
    "content-disposition": `attachment; filename="${file}"`,
  };
  return new Response(body, { headers: { ...headers, "cache-control": ofOnePerson } });
}

function textOf(value: unknown): string {
  if (value === null || value === undefined) return "";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

/** Asks about a new record of a table. Whoever may make none is told so, unless the table does not exist for them. */
async function aboutNew<R>({ database }: Call, table: Table, question: (session: Session) => R): Promise<R> {
  const answer = await database.ask((session) => {
    if (session.reach("create", table.name) !== "none") return { found: question(session) };
    return isKnown(session, table) ? "refused" : "not-found";
  });
  if (answer === "not-found") throw notFound();
  if (answer === "refused") throw new HttpProblem("refused", "You may not create this.");
  return answer.found;
}

export async function newForm(call: Call): Promise<Response> {
  const table = tableOf(call);
  return json(await aboutNew(call, table, (session) => session.form(table.name)));
}

export async function form(call: Call): Promise<Response> {
  const { database, parts } = call;
  const table = tableOf(call);
  const answer = await database.about(table.name, parts["key"] ?? "", (session, record) => {
    const found = record === undefined ? undefined : session.form(table.name, record);
    return found === undefined ? undefined : { found, seen: seenOf(session, table.name, record) };
  });
  if (answer === undefined) throw notFound();
  return json(answer.found, { etag: await etagOf(answer.seen) });
}

export async function choices(call: Call): Promise<Response> {
  const { database, parts } = call;
  const table = tableOf(call);
  const field = parts["field"] ?? "";
  const mustBeKnown = (session: Session) => {
    if (!knownTo(session, table).byName.has(field)) throw notFound();
  };
  const key = parts["key"];
  if (key === undefined) {
    const offered = await aboutNew(call, table, (session) => {
      mustBeKnown(session);
      return session.choices(table.name, field);
    });
    return json({ choices: offered ?? null });
  }
  const found = await database.about(table.name, key, (session, record) => {
    mustBeKnown(session);
    const isThere = record !== undefined && seenOf(session, table.name, record) !== undefined;
    return isThere ? { choices: session.choices(table.name, field as never, record) ?? null } : undefined;
  });
  if (found === undefined) throw notFound();
  return json(found);
}

function numberOf(asked: URLSearchParams, name: string, otherwise: number): number {
  const text = asked.get(name);
  if (text === null) return otherwise;
  if (/^\d{1,9}$/.test(text)) return Number(text);
  throw new HttpProblem("bad-request", `"${name}" must be a whole number.`);
}
