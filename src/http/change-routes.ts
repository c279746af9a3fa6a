import type { Row } from "../conditions/source.js";
import { RecordChanged } from "../database/errors.js";
import type { KeyedChange } from "../database/user-database.js";
import { recordAddress } from "../schema/address.js";
import { isMapping } from "../schema/reader.js";
import type { Table } from "../schema/schema.js";
import type { ChangeResult } from "../session/change-result.js";
import type { BatchResult } from "../session/check-batch.js";
import { seenOf } from "../session/seen.js";
import { isTexts, readBody, readChange } from "./body.js";
import { type Call, json, mustKnow, tableOf } from "./call.js";
import { etagOf, namesVersion, versionOf } from "./etag.js";
import type { HttpLimits } from "./options.js";
import { HttpProblem, notFound, refusalOf, rejectedProblem } from "./problem.js";

export async function create(call: Call): Promise<Response> {
  const { database, request, limits, options } = call;
  const table = tableOf(call);
  const { values, options: change } = readChange(await readBody(request, limits.maxBodyBytes));
  const outcome = await database.create(table.name, values, change);
  if (!outcome.accepted) {
    await mustKnow(call, table);
    throw rejectedProblem(outcome);
  }
  const key = outcome.record === undefined ? undefined : recordAddress(table, outcome.record);
  // A record that its maker does not see has no place for them.
  const place = `${options.base ?? ""}/records/${encodeURIComponent(table.name)}/${encodeURIComponent(key ?? "")}`;
  return changed(outcome, 201, key === undefined ? {} : { location: place });
}

export async function edit(call: Call): Promise<Response> {
  const { database, request, limits, parts } = call;
  const table = tableOf(call);
  const key = parts["key"] ?? "";
  const { values, options } = readChange(await readBody(request, limits.maxBodyBytes));
  const expecting = await expected(call, table, key);
  const outcome = await database.edit(table.name, key, values, { ...options, ...expecting });
  if (!outcome.accepted) throw rejectedProblem(outcome);
  return changed(outcome, 200);
}

export async function remove(call: Call): Promise<Response> {
  const { database, parts, url } = call;
  const table = tableOf(call);
  const key = parts["key"] ?? "";
  const confirmed = url.searchParams.getAll("confirmed");
  const outcome = await database.delete(table.name, key, { confirmed, ...(await expected(call, table, key)) });
  if (!outcome.accepted) throw rejectedProblem(outcome);
  return new Response(null, { status: 204 });
}

export async function perform(call: Call): Promise<Response> {
  const { database, parts, request, limits, options } = call;
  const table = tableOf(call);
  const [key, action] = [parts["key"] ?? "", parts["action"] ?? ""];
  const work = Object.hasOwn(options.actions ?? {}, table.name) ? options.actions?.[table.name] : undefined;
  const run = work !== undefined && Object.hasOwn(work, action) ? work[action] : undefined;
  if (!table.actions.includes(action) || run === undefined) throw notFound();
  const body = request.headers.has("content-type") ? await readBody(request, limits.maxBodyBytes) : {};
  const { options: change } = readChange(body);
  const outcome = await database.perform(action as never, table.name, key, run, {
    ...change,
    ...(await expected(call, table, key)),
  });
  if (!outcome.accepted) throw rejectedProblem(outcome);
  return changed(outcome, 200);
}

export async function bulkEdit(call: Call): Promise<Response> {
  const { database, request, limits } = call;
  const table = tableOf(call);
  const body = await readBody(request, limits.maxBodyBytes);
  const { keys } = body;
  if (!isTexts(keys)) throw new HttpProblem("bad-request", '"keys" must be a list of keys, as texts.');
  mustBeFew(keys.length, limits);
  const { values, options } = readChange(body, ["keys"]);
  await mustKnow(call, table);
  return many(await database.bulkEdit(table.name, keys, values, options));
}

export async function editEach(call: Call): Promise<Response> {
  const { database, request, limits } = call;
  const table = tableOf(call);
  const body = await readBody(request, limits.maxBodyBytes);
  const { changes } = body;
  if (!Array.isArray(changes) || !changes.every(isKeyedChange)) {
    throw new HttpProblem("bad-request", '"changes" must be a list of { key, values }.');
  }
  mustBeFew(changes.length, limits);
  const { options } = readChange(body, ["changes"]);
  await mustKnow(call, table);
  return many(await database.editEach(table.name, changes, options));
}

function isKeyedChange(value: unknown): value is KeyedChange {
  return isMapping(value) && typeof value["key"] === "string" && isMapping(value["values"]);
}

export async function importRecords(call: Call): Promise<Response> {
  const { database, request, limits } = call;
  const table = tableOf(call);
  const body = await readBody(request, limits.maxBodyBytes);
  const { records } = body;
  if (!Array.isArray(records) || !records.every(isMapping)) {
    throw new HttpProblem("bad-request", '"records" must be a list of objects.');
  }
  mustBeFew(records.length, limits);
  const { options } = readChange(body, ["records"]);
  await mustKnow(call, table);
  return many(await database.import(table.name, records, options));
}

function mustBeFew(count: number, { maxBatch: most }: HttpLimits): void {
  if (count > most) throw new HttpProblem("too-large", `${most} records at a time at most.`);
}

/** A result for each, in order; what is refused refuses all of it, and says so by the status. */
function many({ accepted, results }: BatchResult): Response {
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
  { record, dropped }: Extract<ChangeResult, { accepted: true }>,
  status: number,
  headers: Readonly<Record<string, string>> = {},
): Promise<Response> {
  const body = { record: record ?? null, dropped: dropped.map(refusalOf) };
  return json(body, { ...headers, ...(record === undefined ? {} : { etag: await etagOf(record) }) }, status);
}

/** What `If-Match` asks for: the record must be as it was seen when it was read, and stay so until it is locked. */
async function expected({ database, request }: Call, table: Table, key: string) {
  const header = request.headers.get("if-match");
  if (header === null) return {};
  const seen = await database.about(table.name, key, (session, record) => seenOf(session, table.name, record));
  if (seen === undefined) throw notFound();
  if (!namesVersion(header, await etagOf(seen), "strong")) throw new RecordChanged("the record is not as it was seen");
  if (header.trim() === "*") return {};
  const version = versionOf(seen);
  return { expecting: (now: Row | undefined) => versionOf(now) === version };
}
