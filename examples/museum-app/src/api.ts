import type { ChangeOptions, ChangeResult, Form, Refusal, Row } from "portier";

/** What the page needs to know of a table to draw it. */
export interface Shape {
  readonly label: string;
  readonly key: readonly string[];
  readonly actions: readonly string[];
  readonly fields: readonly ShapeField[];
}

export interface ShapeField {
  readonly name: string;
  readonly label: string;
  readonly type: string;
  readonly choices?: readonly string[];
  readonly target?: string;
  readonly isLookup?: boolean;
}

export interface Problem {
  readonly type?: string;
  readonly title: string;
  readonly status: number;
  readonly detail?: string;
  readonly refusals?: readonly Refusal[];
  readonly confirm?: readonly { readonly rule: string; readonly note?: string }[];
}

/** Something that the server did not do, with what it said. */
export class ApiError extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(problem.detail ?? problem.title);
    this.problem = problem;
  }
}

interface Answer<R> {
  readonly body: R;
  readonly etag: string | undefined;
}

export async function call<R>(
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<Answer<R>> {
  const response = await fetch(`/api${path}`, {
    method,
    headers: { ...(body === undefined ? {} : { "content-type": "application/json" }), ...headers },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  });
  const text = await response.text();
  const value = text === "" ? undefined : JSON.parse(text);
  if (!response.ok) throw new ApiError({ title: response.statusText, ...(value as object), status: response.status });
  return { body: value as R, etag: response.headers.get("etag") ?? undefined };
}

export const get = async <R>(path: string): Promise<R> => (await call<R>("GET", path)).body;
export const post = async <R>(path: string, body: unknown): Promise<R> => (await call<R>("POST", path, body)).body;

const pathOf = (...parts: readonly string[]) => parts.map((part) => `/${encodeURIComponent(part)}`).join("");

export interface Page {
  readonly records: readonly Row[];
  readonly total: number;
}

export function listRecords(table: string, query: Readonly<Record<string, string>>): Promise<Page> {
  const given = Object.entries(query).filter(([, value]) => value !== "");
  return get(`${pathOf("records", table)}?${new URLSearchParams(given)}`);
}

export interface OpenedForm {
  readonly form: Form;
  readonly etag: string | undefined;
}

export async function openForm(table: string, key?: string): Promise<OpenedForm> {
  const { body, etag } = await call<Form>(
    "GET",
    key === undefined ? pathOf("forms", table) : pathOf("forms", table, key),
  );
  return { form: body, etag };
}

/** A change as the rules judged it: what was not accepted is an answer, too, and no failure. */
async function judged(
  send: () => Promise<Answer<{ record: Row | null; dropped: readonly Refusal[] } | undefined>>,
): Promise<ChangeResult> {
  try {
    const { body } = await send();
    return { accepted: true, record: body?.record ?? undefined, changes: {}, dropped: body?.dropped ?? [] };
  } catch (error) {
    if (!(error instanceof ApiError)) throw error;
    const { refusals = [], confirm, type = "" } = error.problem;
    const kind = type.split(":").at(-1) ?? "";
    const reason = (["refused", "invalid", "unconfirmed", "not-found"] as const).find((one) => one === kind);
    if (reason === undefined) throw error;
    return { accepted: false, reason, refusals, ...(confirm === undefined ? {} : { confirm }) };
  }
}

type Confirmed = Pick<ChangeOptions, "confirmed">;

export function editRecord(
  table: string,
  key: string,
  etag: string | undefined,
  values: Row,
  options: Confirmed,
): Promise<ChangeResult> {
  const headers: Record<string, string> = etag === undefined ? {} : { "if-match": etag };
  return judged(() => call("PATCH", pathOf("records", table, key), { values, ...options }, headers));
}

export function createRecord(table: string, values: Row, options: Confirmed): Promise<ChangeResult> {
  return judged(() => call("POST", pathOf("records", table), { values, ...options }));
}

export function actOn(table: string, key: string, action: string, options: Confirmed): Promise<ChangeResult> {
  if (action !== "delete") return judged(() => call("POST", pathOf("actions", table, key, action), options));
  const query = new URLSearchParams((options.confirmed ?? []).map((rule) => ["confirmed", rule]));
  return judged(() => call("DELETE", `${pathOf("records", table, key)}?${query}`));
}

export interface LineResult {
  readonly accepted: boolean;
  readonly reason?: string;
  readonly refusals?: readonly Refusal[];
  readonly confirm?: readonly { readonly rule: string; readonly note?: string }[];
}

export interface ManyResults {
  readonly accepted: boolean;
  readonly results: readonly LineResult[];
}

/** New records from a file. */
export function importRecords(table: string, records: readonly Row[]): Promise<ManyResults> {
  return allOrNothing(() => post<ManyResults>(pathOf("imports", table), { records }));
}

/** The same values for many records. */
export function changeMany(
  table: string,
  keys: readonly string[],
  values: Row,
  confirmed: readonly string[],
): Promise<ManyResults> {
  return allOrNothing(
    async () => (await call<ManyResults>("PATCH", pathOf("bulk-edits", table), { keys, values, confirmed })).body,
  );
}

/** That some are not accepted is an answer, with a result for each. */
export async function allOrNothing(send: () => Promise<ManyResults>): Promise<ManyResults> {
  try {
    return await send();
  } catch (error) {
    const given = error instanceof ApiError ? (error.problem as unknown as Partial<ManyResults>) : {};
    if (given.results === undefined) throw error;
    return { accepted: false, results: given.results };
  }
}

/** The address of a record: its key, or the values of several with `/` between. */
export function keyOf({ key }: Shape, record: Row): string {
  const values = key.map((name) => String(record[name] ?? ""));
  return values.length === 1
    ? (values[0] ?? "")
    : values.map((value) => value.replaceAll("%", "%25").replaceAll("/", "%2F")).join("/");
}
