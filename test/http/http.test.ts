import fc from "fast-check";
import { Hono } from "hono";
import { compile, type Row } from "portier";
import { portierRoutes } from "portier/hono";
import { accessHandler, type HttpOptions, type Identity } from "portier/http";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { comparedAnswers, Description, type Document } from "../support/described.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { as, portier, record, records } from "../support/museum.js";
import { runsOf } from "../support/runs.js";

const request = { now: "2026-11-24T09:00:00Z" };
const base = "/api";
type Body = Readonly<Record<string, unknown>>;

/** The current user is named by a header, as an application's own sign-in would say. */
function askingOf(call: Request): Identity | undefined {
  const person = call.headers.get("x-person");
  return person === "nobody" ? undefined : { person, request };
}

function client(engine: Pick<Engine, "connection">, more: Partial<HttpOptions> = {}) {
  const handle = accessHandler({ portier, connection: engine.connection, base, authenticate: askingOf, ...more });
  const known = descriptionsOf(handle);
  return async (
    method: string,
    path: string,
    person?: string,
    body?: unknown,
    headers: Record<string, string> = {},
  ) => {
    const call = new Request(`http://museum${base}${path}`, {
      method,
      headers: {
        ...(person === undefined ? {} : { "x-person": person }),
        ...(body === undefined ? {} : { "content-type": "application/json" }),
        ...headers,
      },
      ...(body === undefined ? {} : { body: typeof body === "string" ? body : JSON.stringify(body) }),
    });
    const response = await handle(call);
    if (response === undefined) return { status: undefined, body: {} as Body, headers: new Headers() };
    const text = await response.text();
    const { status } = response;
    const type = response.headers.get("content-type");
    const isText = type?.startsWith("text/csv") === true;
    const answer = isText ? { text } : text === "" ? {} : JSON.parse(text);
    // Whatever is answered, to whomever, is as it is described to them.
    const description = await known.of(person);
    if (description !== undefined) {
      const answered = { method, path: path.split("?")[0] ?? "", status, type };
      const problem = description.problemWith({ ...answered, body: text === "" ? undefined : answer });
      expect(problem).toBeUndefined();
    }
    return { status, body: answer as Body, headers: response.headers };
  };
}

/** What a service says of itself to each person. */
function descriptionsOf(handle: (request: Request) => Promise<Response | undefined>) {
  const found = new Map<string | undefined, Promise<Description | undefined>>();
  const read = async (person: string | undefined) => {
    const headers = person === undefined ? {} : { "x-person": person };
    const response = await handle(new Request(`http://museum${base}/openapi.json`, { headers }));
    return response?.status === 200 ? new Description((await response.json()) as Document) : undefined;
  };
  return {
    of: (person: string | undefined) => {
      const known = found.get(person) ?? read(person);
      found.set(person, known);
      return known;
    },
  };
}

/** What a program may send as a part of an address: anything. */
const encoded = (text: string) => encodeURIComponent(text.replace(/[\uD800-\uDFFF]/g, "?"));

/** A decimal column gives its numbers as many digits as it has: the number is the same. */
function plain(value: unknown): unknown {
  if (typeof value === "string" && /^-?\d+\.\d+$/.test(value)) return value.replace(/\.?0+$/, "");
  if (Array.isArray(value)) return value.map(plain);
  if (typeof value !== "object" || value === null) return value;
  return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, plain(one)]));
}

const everything = Object.fromEntries(
  [...portier.schema.tables.keys(), "portier_assignments", "portier_delegations"].map((name) => [name, records(name)]),
);
const byKey = (rows: readonly Row[], key: string) =>
  [...rows].sort((a, b) => (String(a[key]) < String(b[key]) ? -1 : 1));

describe.each(Object.entries(engines))("the museum over HTTP on %s", (name, open) => {
  let engine: Engine;
  let call: ReturnType<typeof client>;
  const photographed: unknown[] = [];
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    await storeAll(engine, portier.schema, everything);
    const photograph = async (_internal: unknown, one: Row) => void photographed.push(one["accession"]);
    call = client(engine, { actions: { objects: { photograph } } });
  });
  afterAll(() => engine?.close());

  it("lists what each person sees, and nothing else", async () => {
    for (const person of [undefined, "s-001", "s-003", "s-004", "s-005", "s-007", "s-008", "s-009", "s-010"]) {
      for (const [table, key] of [
        ["objects", "accession"],
        ["loans", "id"],
        ["staff", "id"],
      ] as const) {
        const answer = await call("GET", `/records/${table}?limit=500&sort=${key}`, person);
        const expected = byKey(as(person).maskAll(table, records(table)), key);
        // A table of which somebody may do nothing at all does not exist for them.
        if (answer.status === 404) expect(expected).toEqual([]);
        else
          expect(plain(answer.body), `${person} ${table}`).toEqual(
            plain({ records: expected, total: expected.length, next: null }),
          );
      }
    }
  });

  it("filters, searches, sorts and pages over what is shown", async () => {
    const shown = as("s-003").maskAll("objects", records("objects"));
    const filtered = await call("GET", "/records/objects?department=ships&sort=-title&limit=3&offset=2", "s-003");
    const ships = shown.filter(({ department }) => department === "ships");
    expect(filtered.body["total"]).toBe(ships.length);
    expect(filtered.body["records"]).toHaveLength(3);
    const search = await call("GET", "/records/objects?search=Bell&limit=500", "s-003");
    const fields = ["title", "label", "material", "made_in", "donor", "shelf", "condition_note", "accession"];
    const found = shown.filter((row) => fields.some((field) => String(row[field] ?? "").includes("Bell")));
    expect(search.body["total"]).toBe(found.length);
    const where = encodeURIComponent("status in ('on_display', 'on_loan') and acquired_on < date '1950-01-01'");
    const asked = await call("GET", `/records/objects?where=${where}`, "s-005");
    const early = records("objects").filter(
      (row) =>
        ["on_display", "on_loan"].includes(String(row["status"])) && String(row["acquired_on"] ?? "9") < "1950-01-01",
    );
    expect(asked.body["total"]).toBe(early.length);
    // Of a hidden value nothing can be learned by asking for it.
    for (const filter of ["insured_value > 0", "insured_value is not null", "not (insured_value < 0)"]) {
      const answer = await call("GET", `/records/objects?where=${encodeURIComponent(filter)}`, "s-003");
      expect(answer.body, filter).toEqual({ records: [], total: 0, next: null });
    }
    const order = await call("GET", "/records/objects?sort=-insured_value,accession&limit=500", "s-003");
    expect((order.body["records"] as Row[]).map((row) => row["accession"])).toEqual(
      byKey(records("objects"), "accession").map((row) => row["accession"]),
    );
  });

  it.each([
    ["titel=x", /no field "titel"/],
    ["where=titel%20%3D%20'x'", /has no field "titel"/],
    ["where=title%20%3D", /found the end/],
    ["where=keeper.salary%20%3E%201", /more than the record itself/],
    ["where=title%20%3D%20me.name", /more than the record itself/],
    ["where=exists%20(loans%20where%20object%20%3D%20this)", /more than the record itself/],
    ["where=may%20view%20keeper", /place here|more than the record itself/],
    ["limit=many", /"limit" must be/],
    ["limit=501", /500 records at most/],
    ["sort=titel", /no field "titel"/],
    ["total=perhaps", /"total" must be/],
    ["after=BM-SH-0001", /of a page in the same order/],
    [`sort=title&after=${encodeURIComponent('[[],["BM-SH-0001"]]')}`, /of a page in the same order/],
    [`after=${encodeURIComponent("[[],[1]]")}`, /of a page in the same order/],
    [`offset=1&after=${encodeURIComponent('[[],["BM-SH-0001"]]')}`, /both given/],
  ])("refuses a question that is wrong, and says why: %s", async (query, says) => {
    const answer = await call("GET", `/records/objects?${query}`, "s-003");
    expect(answer.status).toBe(400);
    expect(answer.headers.get("content-type")).toBe("application/problem+json");
    expect(answer.body["detail"]).toMatch(says);
  });

  it("shows a record as it is seen, with a version of that, and hides the others alike", async () => {
    const answer = await call("GET", "/records/objects/BM-SH-0001", "s-003");
    expect(answer.body).toEqual(as("s-003").mask("objects", record("objects", "BM-SH-0001")));
    const etag = answer.headers.get("etag") ?? "";
    expect(etag).toMatch(/^"[0-9a-f]{32}"$/);
    const again = await call("GET", "/records/objects/BM-SH-0001", "s-003", undefined, { "if-none-match": etag });
    expect(again.status).toBe(304);
    // One that a visitor does not know of is as one that is not there.
    const [hidden, missing] = [await call("GET", "/records/loans/l-001"), await call("GET", "/records/loans/none")];
    expect(hidden.status).toBe(404);
    expect(hidden.body).toEqual(missing.body);
    expect((await call("GET", "/records/lions/1")).body).toEqual(missing.body);
    const key = encodeURIComponent("e-2/s-007");
    expect((await call("GET", `/records/exhibition_team/${key}`, "s-001")).body["part"]).toBe("editor");
  });

  it("refuses forged requests, names no rule, and leaves what is stored", async () => {
    const before = await call("GET", "/records/objects/BM-SH-0001", "s-005");
    const forged: readonly [string, string, string | undefined, unknown, number][] = [
      ["PATCH", "/records/objects/BM-SH-0001", "s-003", { values: { insured_value: "1.00" } }, 403],
      ["PATCH", "/records/objects/BM-SH-0001", "s-003", { values: { label: "x", insured_value: "1.00" } }, 403],
      ["PATCH", "/records/objects/BM-SH-0001", "s-003", { values: { status: "withdrawn" } }, 403],
      ["PATCH", "/records/objects/BM-SH-0001", "s-004", { values: { label: "x" } }, 403],
      ["PATCH", "/records/objects/BM-SH-0001", undefined, { values: { label: "x" } }, 403],
      ["PATCH", "/records/objects/BM-SH-0001", "s-009", { values: { label: "x" } }, 404],
      ["PATCH", "/records/objects/BM-SH-0001", "s-005", { values: { no_such: 1 } }, 403],
      ["POST", "/records/objects", "s-003", { values: { accession: "BM-X", title: "x", department: "ships" } }, 403],
      ["POST", "/records/loans", undefined, { values: {} }, 404],
      ["DELETE", "/records/objects/BM-SH-0001", "s-005", undefined, 403],
      ["POST", "/actions/objects/BM-SH-0001/photograph", "s-004", {}, 403],
      ["PATCH", "/bulk-edits/objects", "s-003", { keys: ["BM-SH-0001"], values: { label: "x" } }, 422],
      ["POST", "/imports/objects", "s-003", { records: [{ accession: "BM-X", title: "x", department: "ships" }] }, 422],
    ];
    for (const [method, path, person, body, status] of forged) {
      const answer = await call(method, path, person, body);
      expect([answer.status, path, person], JSON.stringify(answer.body)).toEqual([status, path, person]);
      expect(JSON.stringify(answer.body)).not.toMatch(/objects\/|value-stays|"rule"/);
    }
    expect(await call("GET", "/records/objects/BM-SH-0001", "s-005")).toMatchObject({ body: before.body });
    expect((await call("GET", "/records/objects/BM-X", "s-005")).status).toBe(404);
  });

  it("changes what may be, and only the version that was seen", async () => {
    const seen = await call("GET", "/records/objects/BM-SH-0002", "s-003");
    const etag = seen.headers.get("etag") ?? "";
    const path = "/records/objects/BM-SH-0002";
    const first = await call("PATCH", path, "s-003", { values: { label: `By ${name}` } }, { "if-match": etag });
    expect(first).toMatchObject({ status: 200, body: { record: { label: `By ${name}` }, dropped: [] } });
    const late = await call("PATCH", path, "s-003", { values: { label: "Late" } }, { "if-match": etag });
    expect(late).toMatchObject({ status: 412, body: { type: "urn:portier:problem:changed" } });
    const now = first.headers.get("etag") ?? "";
    // What is hidden from her may change without making her version old.
    await call("PATCH", path, "s-005", { values: { insured_value: "77.00" } });
    const back = await call("PATCH", path, "s-003", { values: { label: seen.body["label"] } }, { "if-match": now });
    expect(back.status).toBe(200);
    const lenient = { values: { label: "Kept", insured_value: "1.00" }, mode: "lenient" };
    const dropped = await call("PATCH", path, "s-003", lenient);
    expect(dropped.body["dropped"]).toMatchObject([{ field: "insured_value" }]);
    expect(plain((await call("GET", path, "s-005")).body["insured_value"])).toBe("77");
  });

  it("lets two who saw the same version not both change it", async () => {
    const path = "/records/objects/BM-SH-0003";
    const etag = (await call("GET", path, "s-005")).headers.get("etag") ?? "";
    const both = ["A", "B"].map((label) => call("PATCH", path, "s-005", { values: { label } }, { "if-match": etag }));
    const answers = await Promise.all(both);
    expect(answers.map(({ status }) => status).sort()).toEqual([200, 412]);
  });

  it("asks to confirm, and does it then", async () => {
    const path = "/records/plan/b-03";
    const asked = await call("PATCH", path, "s-001", { values: { total: "9.00" } });
    expect(asked).toMatchObject({ status: 409, body: { confirm: [{ rule: "plan/totals-are-worked-out" }] } });
    expect(asked.body["detail"]).toMatch(/worked out/);
    const confirmed = ["plan/totals-are-worked-out"];
    expect((await call("PATCH", path, "s-001", { values: { total: "9.00" }, confirmed })).status).toBe(200);
  });

  it("makes, does and deletes", async () => {
    const values = { accession: "BM-SH-9001", title: "Log", department: "ships" };
    const made = await call("POST", "/records/objects", "s-005", { values });
    expect(made).toMatchObject({ status: 201, body: { record: { ...values, status: "registered" } } });
    expect(made.headers.get("location")).toBe("/api/records/objects/BM-SH-9001");
    const twice = await call("POST", "/records/objects", "s-005", { values });
    expect(twice).toMatchObject({ status: 422, body: { refusals: [{ field: "accession", reason: "key-taken" }] } });
    const wrong = await call("POST", "/records/objects", "s-005", {
      values: { ...values, accession: "y", acquired_on: "some day" },
    });
    expect(wrong).toMatchObject({ status: 422, body: { refusals: [{ field: "acquired_on", reason: "invalid" }] } });
    expect((await call("POST", "/actions/objects/BM-SH-9001/photograph", "s-003", {})).status).toBe(200);
    expect(photographed.at(-1)).toBe("BM-SH-9001");
    expect((await call("POST", "/actions/objects/BM-SH-9001/polish", "s-003", {})).status).toBe(404);
    expect((await call("DELETE", "/records/objects/BM-SH-9001", "s-001")).status).toBe(204);
    expect((await call("DELETE", "/records/objects/BM-SH-9001", "s-001")).status).toBe(404);
  });

  it("gives forms and choices as the session does", async () => {
    const answer = await call("GET", "/forms/objects/BM-SH-0004", "s-003");
    const form = as("s-003").form("objects", record("objects", "BM-SH-0004"));
    expect(answer.body).toEqual(JSON.parse(JSON.stringify(form)));
    const loan = await call("GET", "/forms/loans", "s-003");
    expect(loan.body).toMatchObject({ table: "loans", isNew: true });
    expect((await call("GET", "/forms/loans", "s-008")).status).toBe(403);
    expect((await call("GET", "/forms/loans")).status).toBe(404);
    const choices = await call("GET", "/choices/objects/status/BM-SH-0004", "s-003");
    expect(choices.body).toEqual({
      choices: as("s-003").choices("objects", "status", record("objects", "BM-SH-0004")),
    });
    expect((await call("GET", "/choices/objects/none/BM-SH-0004", "s-003")).status).toBe(404);
  });

  it("gives what may be taken out as a file, and nothing else", async () => {
    const answer = await call("GET", "/exports/objects", "s-005", undefined, { accept: "text/csv" });
    const lines = String(answer.body["text"]).split("\r\n");
    expect(lines[0]).toBe(
      portier.schema.tables
        .get("objects")
        ?.fields.map((field) => field.name)
        .join(","),
    );
    expect(lines).toHaveLength(400 + 2);
    const nothing = await call("GET", "/exports/objects", "s-003", undefined, { accept: "text/csv" });
    expect(nothing).toMatchObject({ status: 200, body: { text: "\r\n" } });
    expect((await call("GET", "/exports/loans")).status).toBe(404);
  });

  it("makes changes of several records together, or none, with a result for each", async () => {
    const send = (person: string, changes: unknown) => call("PATCH", "/records/plan", person, { changes });
    const [fine, heading] = [
      { key: "b-02", values: { q1: "1300.00", q2: "810.00" } },
      { key: "b-01", values: { q1: "1.00", remark: "mine" } },
    ];
    const refused = await send("s-010", [fine, heading]);
    expect(refused).toMatchObject({
      status: 422,
      body: { accepted: false, results: [{ accepted: true }, { accepted: false, reason: "refused" }] },
    });
    const [, { refusals }] = refused.body["results"] as [unknown, { refusals: { field: string; message: string }[] }];
    expect(refusals.map(({ field }) => field)).toEqual(["q1", "remark"]);
    expect(plain((await call("GET", "/records/plan/b-02", "s-010")).body)).toMatchObject({ q1: "1200" });
    expect(await send("s-010", [fine])).toMatchObject({ status: 200, body: { results: [{ accepted: true }] } });
    expect(plain((await call("GET", "/records/plan/b-02", "s-010")).body)).toMatchObject({ q1: "1300", q2: "810" });
    expect(await send("s-001", [{ key: "b-02", values: { total: "1.00" } }])).toMatchObject({
      status: 422,
      body: { results: [{ reason: "unconfirmed", confirm: [{ rule: "plan/totals-are-worked-out" }] }] },
    });
    expect((await send("s-008", [fine])).status).toBe(404);
    for (const wrong of [{}, [{ key: 1, values: {} }], [{ key: "b-02" }]])
      expect((await send("s-010", wrong)).status).toBe(400);
    await send("s-010", [{ key: "b-02", values: { q1: "1200.00", q2: "800.00" } }]);
  });

  it("does all of a bulk change or an import, or nothing, with a result for each", async () => {
    const keys = ["BM-SH-0005", "BM-SH-0006"];
    const done = await call("PATCH", "/bulk-edits/objects", "s-005", { keys, values: { condition_note: "Seen." } });
    expect(done).toMatchObject({
      status: 200,
      body: { accepted: true, results: [{ accepted: true }, { accepted: true }] },
    });
    const rows = ["BM-IN-9001", "BM-SH-0001", "BM-IN-9002"].map((accession) => ({
      accession,
      title: "x",
      department: "ships",
    }));
    const refused = await call("POST", "/imports/objects", "s-005", { records: rows });
    expect(refused.status).toBe(422);
    expect((refused.body["results"] as { accepted: boolean }[]).map(({ accepted }) => accepted)).toEqual([
      true,
      false,
      true,
    ]);
    expect((await call("GET", "/records/objects/BM-IN-9001", "s-005")).status).toBe(404);
    const fine = await call("POST", "/imports/objects", "s-005", { records: rows.filter((_, at) => at !== 1) });
    expect(fine.status).toBe(200);
    for (const key of ["BM-IN-9001", "BM-IN-9002"]) await call("DELETE", `/records/objects/${key}`, "s-001");
  });
});

describe("the interface itself", () => {
  let engine: Engine;
  let call: ReturnType<typeof client>;
  beforeAll(async () => {
    engine = await (engines["SQLite"] as () => Promise<Engine>)();
    await createTables(engine, portier.schema);
    await storeAll(engine, portier.schema, everything);
    call = client(engine);
  });
  afterAll(() => engine.close());

  it("says who the current user is, what they are shown, and where they land", async () => {
    const session = as("s-003");
    expect((await call("GET", "/me", "s-003")).body).toEqual({
      person: "s-003",
      roles: session.roles,
      screens: session.screens(),
      home: "objects",
    });
    expect((await call("GET", "/me")).body).toEqual({ person: null, roles: [], screens: ["visit"], home: "visit" });
    expect(await call("GET", "/me", "nobody")).toMatchObject({ status: 401, body: { status: 401 } });
    const elsewhere = client(engine, {
      authenticate: () => new Response(null, { status: 302, headers: { location: "/in" } }),
    });
    expect((await elsewhere("GET", "/me")).headers.get("location")).toBe("/in");
  });

  it.each<[string, string, unknown, Record<string, string>, number, RegExp]>([
    ["PATCH", "/records/objects/BM-SH-0001", "{", {}, 400, /not JSON/],
    ["PATCH", "/records/objects/BM-SH-0001", "[]", {}, 400, /must be an object/],
    ["PATCH", "/records/objects/BM-SH-0001", { value: {} }, {}, 400, /has no "value"/],
    ["PATCH", "/records/objects/BM-SH-0001", { values: [] }, {}, 400, /"values" must be/],
    ["PATCH", "/records/objects/BM-SH-0001", { values: {}, mode: "free" }, {}, 400, /"mode"/],
    ["PATCH", "/records/objects/BM-SH-0001", { values: {}, confirmed: "all" }, {}, 400, /"confirmed"/],
    ["PATCH", "/records/objects/BM-SH-0001", "label=x", { "content-type": "text/plain" }, 415, /application\/json/],
    ["PATCH", "/records/objects/BM-SH-0001", { values: { label: "x".repeat(2_000_000) } }, {}, 413, /bytes at most/],
    ["PATCH", "/bulk-edits/objects", { keys: Array(1_001).fill("a"), values: {} }, {}, 413, /1000 records/],
    ["PATCH", "/bulk-edits/objects", { keys: [1], values: {} }, {}, 400, /"keys"/],
    ["POST", "/imports/objects", { records: [1] }, {}, 400, /"records"/],
    ["PUT", "/records/objects/BM-SH-0001", {}, {}, 405, /GET, HEAD, PATCH, DELETE, OPTIONS/],
  ])("refuses a request that is wrong: %s %s %#", async (method, path, body, headers, status, says) => {
    const answer = await call(method, path, "s-005", body, headers);
    expect(answer.status).toBe(status);
    expect(answer.body["detail"]).toMatch(says);
    expect(answer.headers.get("content-type")).toBe("application/problem+json");
  });

  it("leaves other paths to the server, and keeps answers of one person from others", async () => {
    for (const path of ["", "/", "/other", "/records", "/records/objects/", "/records/objects/a/b", "/%ff"]) {
      expect((await call("GET", path)).status, path).toBeUndefined();
    }
    expect((await call("GET", "/records/objects")).headers.get("cache-control")).toBe("private, no-cache");
  });

  it("tells the application what failed, and the caller no more than that", async () => {
    const failures: unknown[] = [];
    const secret = new Error("password authentication failed for user boss");
    const fail = () => Promise.reject(secret);
    const broken = { ...engine.connection, transaction: fail, reading: fail };
    const failing = client({ connection: broken }, { onError: (error) => void failures.push(error) });
    for (const [method, path, body] of [
      ["GET", "/records/objects", undefined],
      ["PATCH", "/records/objects/BM-SH-0001", { values: { label: "x" } }],
    ] as const) {
      const answer = await failing(method, path, "s-003", body);
      expect(answer).toMatchObject({ status: 500, body: { type: "urn:portier:problem:fault" } });
      expect(JSON.stringify(answer.body)).not.toContain("boss");
    }
    expect(new Set(failures)).toEqual(new Set([secret]));
  });

  it("describes itself, with each table's records", async () => {
    const { body } = await call("GET", "/openapi.json", "s-001");
    const described = body as unknown as Document;
    expect(described.openapi).toBe("3.1.0");
    expect(described.servers).toEqual([{ url: "/api" }]);
    expect(described.security).toEqual([{ signIn: [] }]);
    expect(Object.keys(described.paths["/records/objects"] ?? {})).toEqual(["get", "post", "patch"]);
    expect(described.components.schemas["Record_plan"]).toMatchObject({
      properties: { q1: { anyOf: [{ type: "string" }, { type: "null" }] } },
      required: ["id"],
    });
    // Every schema says what is always there, but what may be given and what names one of several.
    for (const [component, schema] of Object.entries(described.components.schemas)) {
      if (!component.startsWith("Values_")) expect(schema.required, component).toBeDefined();
    }
    // Every reference leads somewhere, and acts are there where the application has them.
    const text = JSON.stringify(described);
    for (const [, name] of text.matchAll(/"#\/components\/schemas\/([^"]+)"/g)) {
      expect(described.components.schemas).toHaveProperty([name ?? ""]);
    }
    expect(text).not.toContain("/actions/");
    const some = client(engine, { tables: ["plan"], actions: { objects: { photograph: async () => {} } } });
    const plan = (await some("GET", "/openapi.json", "s-001")).body["paths"] as object;
    expect(Object.keys(plan)).toContain("/records/plan");
    expect(Object.keys(plan).join()).not.toContain("objects");
    expect((await some("GET", "/records/objects", "s-005")).status).toBe(404);
  });

  // The description once named every table, field and choice to whoever asked.
  it("describes to each person what they can know of, and nothing else", async () => {
    for (const { id } of [{ id: undefined }, ...records("staff")] as { id?: string }[]) {
      const session = as(id);
      const { paths, components } = (await call("GET", "/openapi.json", id)).body as {
        paths: object;
        components: { schemas: Record<string, { properties: object }> };
      };
      for (const { name, fields } of portier.schema.tables.values()) {
        const actions = ["list", "view", "create", "import", "edit", "bulk", "export"] as const;
        const isKnown = (field?: string) =>
          actions.some((action) => session.reach(action, name, field as never) !== "none");
        expect(Object.keys(paths).includes(`/records/${name}`), `${id} ${name}`).toBe(isKnown());
        const described = Object.keys(components.schemas[`Record_${name}`]?.properties ?? {});
        expect(described, `${id} ${name}`).toEqual(fields.map((field) => field.name).filter(isKnown));
      }
    }
    expect((await call("GET", "/openapi.json", "nobody")).status).toBe(401);
    expect(JSON.stringify((await call("GET", "/openapi.json")).body)).not.toMatch(/salary|withdrawn|loans/);
  });

  // The version of what may only be listed was compared with what is shown when it is opened: nothing.
  it("answers as the protocol has it", async () => {
    const path = "/records/objects/BM-SH-0001";
    const seen = await call("GET", path, "s-003");
    const head = await call("HEAD", path, "s-003");
    expect([head.status, head.body]).toEqual([200, {}]);
    expect([...head.headers]).toEqual([...seen.headers]);
    expect((await call("HEAD", "/records/loans/l-001")).status).toBe(404);
    const options = await call("OPTIONS", path, "nobody");
    expect([options.status, options.headers.get("allow")]).toEqual([204, "GET, HEAD, PATCH, DELETE, OPTIONS"]);
    const etag = seen.headers.get("etag") ?? "";
    // A weak version is one for reading, and none for changing.
    const read = await call("GET", path, "s-003", undefined, { "if-none-match": `"other", W/${etag}` });
    expect([read.status, read.headers.get("etag"), read.headers.get("cache-control")]).toEqual([
      304,
      etag,
      "private, no-cache",
    ]);
    const values = { label: seen.body["label"] };
    expect((await call("PATCH", path, "s-003", { values }, { "if-match": `W/${etag}` })).status).toBe(412);
    expect((await call("PATCH", path, "s-003", { values }, { "if-match": `"x", ${etag}` })).status).toBe(200);
    const unknown = await call("GET", path, "nobody");
    expect([unknown.status, unknown.headers.get("www-authenticate")]).toEqual([401, "Bearer"]);
    const own = client(engine, { challenge: 'Cookie form="/sign-in"' });
    expect((await own("GET", path, "nobody")).headers.get("www-authenticate")).toBe('Cookie form="/sign-in"');
    for (const [accept, status] of [
      ["text/html", 406],
      ["application/json;q=0, */*", 406],
      ["text/html, application/*;q=0.2", 200],
      ["*/*", 200],
      ["", 200],
    ] as const) {
      expect((await call("GET", path, "s-003", undefined, { accept })).status, accept).toBe(status);
    }
    const nothing = await call("PATCH", path, "s-003", { values: { label: "not taken" } }, { accept: "text/html" });
    expect(nothing.status).toBe(406);
    expect((await call("GET", path, "s-003")).body).toEqual(seen.body);
    expect((await call("GET", "/exports/objects", "s-005", undefined, { accept: "application/json" })).status).toBe(
      406,
    );
  });

  it("ends a body that is too long when it is, whoever else reads the request", async () => {
    const handle = accessHandler({ portier, connection: engine.connection, base, authenticate: askingOf });
    let sent = 0;
    const body = new ReadableStream({
      pull: (controller) => {
        sent += 1;
        controller.enqueue(new TextEncoder().encode(" ".repeat(65_536)));
      },
    });
    const headers = { "content-type": "application/json", "x-person": "s-005" };
    const endless = new Request(`http://museum${base}/records/objects`, {
      method: "POST",
      headers,
      body,
      duplex: "half",
    } as RequestInit);
    endless.clone();
    expect((await handle(endless))?.status).toBe(413);
    expect(sent).toBeLessThan(40);
  });

  it("asks for any field, whatever it is called, and tells no value from an empty one", async () => {
    const names = ["where", "sort", "limit", "offset", "search", "null", "field.limit", "confirmed"];
    const rules = { all: { to: "anyone", permit: { view: "all" } } };
    const fields = {
      id: "text",
      ...Object.fromEntries(names.map((name) => [name, { type: "text", optional: true }])),
      n: { type: "integer", optional: true },
    };
    const small = compile({ portier: 1, tables: { notes: { key: "id", fields, rules } } } as never);
    const own = await (engines["SQLite"] as () => Promise<Engine>)();
    await createTables(own, small.schema);
    const empty = Object.fromEntries([...names, "n"].map((name) => [name, null]));
    const rows = names.map((name, at) => ({ ...empty, id: `${at}`, [name]: "3", n: at }));
    await storeAll(own, small.schema, { notes: [...rows, { ...empty, id: "e", limit: "" }] });
    const calls = client(own, { portier: small, authenticate: () => ({ person: null }) });
    const found = async (query: string) => {
      const { body } = await calls("GET", `/records/notes?${query}`);
      return (body["records"] as Row[] | undefined)?.map(({ id }) => id);
    };
    for (const [at, name] of names.entries()) {
      expect(await found(`field.${encodeURIComponent(name)}=3`), name).toEqual([`${at}`]);
    }
    expect(await found("confirmed=3")).toEqual(["7"]);
    expect(await found("field.limit=")).toEqual(["e"]);
    expect(await found("null=limit,n")).toEqual([]);
    expect(await found("null=n&field.limit=")).toEqual(["e"]);
    expect(await found("null=limit")).toHaveLength(names.length - 1);
    expect(await found("n=")).toEqual([]);
    expect(await found("n=0")).toEqual(["0"]);
    expect((await calls("GET", "/records/notes?null=m")).status).toBe(400);
    const { paths } = (await calls("GET", "/openapi.json")).body as unknown as Document;
    const query = paths["/records/notes"]?.["get"] as unknown as { parameters: { name: string }[] };
    expect(query.parameters.map(({ name }) => name)).toEqual(
      expect.arrayContaining(["limit", "field.limit", "field.field.limit", "confirmed"]),
    );
    expect(new Set(query.parameters.map(({ name }) => name)).size).toBe(query.parameters.length);
    await own.close();
  });

  it("knows the version of what may be listed and changed, but not opened", async () => {
    const rules = { all: { to: "anyone", permit: { list: ["title"], edit: ["title"] } } };
    const small = compile({
      portier: 1,
      tables: { notes: { key: "id", fields: { id: "text", title: "text" }, rules } },
    });
    const own = await (engines["SQLite"] as () => Promise<Engine>)();
    await createTables(own, small.schema);
    await storeAll(own, small.schema, { notes: [{ id: "1", title: "old" }] });
    const calls = client(own, { portier: small, authenticate: () => ({ person: null }) });
    const etag = (await calls("GET", "/records/notes/1")).headers.get("etag") ?? "";
    const change = { values: { title: "new" } };
    expect((await calls("PATCH", "/records/notes/1", undefined, change, { "if-match": etag })).status).toBe(200);
    expect((await calls("PATCH", "/records/notes/1", undefined, change, { "if-match": etag })).status).toBe(412);
    await own.close();
  });

  it("never fails, whatever is sent", async () => {
    const failures: unknown[] = [];
    const sent = client(engine, { onError: (error) => void failures.push(error) });
    const word = fc.oneof(
      fc.constantFrom(
        "records",
        "objects",
        "forms",
        "choices",
        "loans",
        "BM-SH-0001",
        "status",
        "__proto__",
        "bulk",
        "%00",
      ),
      fc.string({ unit: "binary", maxLength: 8 }).map(encoded),
    );
    const values = fc.dictionary(
      fc.constantFrom("label", "status", "keeper", "title", "__proto__", "x"),
      fc.jsonValue(),
    );
    const body = fc.oneof(
      fc.record({ values }),
      fc.jsonValue(),
      fc.record({ keys: fc.jsonValue(), values, records: fc.jsonValue() }),
      fc.record({
        changes: fc.oneof(
          fc.jsonValue(),
          fc.array(fc.record({ key: fc.constantFrom("BM-SH-0001", "BM-SH-0002", "%", ""), values })),
        ),
      }),
    );
    const query = fc.oneof(
      fc.constant(""),
      fc.webQueryParameters(),
      fc.string().map((text) => `where=${encoded(text)}`),
    );
    await fc.assert(
      fc.asyncProperty(
        fc.constantFrom("GET", "POST", "PATCH", "DELETE"),
        fc.array(word, { minLength: 1, maxLength: 4 }),
        query,
        body,
        fc.constantFrom(undefined, "s-003", "s-008", "s-009", "s-404"),
        async (method, path, asked, sending, person) => {
          const isWithBody = method !== "GET";
          const answer = await sent(method, `/${path.join("/")}?${asked}`, person, isWithBody ? sending : undefined);
          expect([method, path, answer.status ?? 404, failures]).toEqual([
            method,
            path,
            expect.toSatisfy((status: number) => status < 500),
            [],
          ]);
        },
      ),
      { numRuns: runsOf(200) },
    );
  });

  it("was compared with its description in every kind of answer", () => {
    for (const expected of [
      ...["records 200", "records 404", "records 400", "records 406", "forms 200", "forms 403"],
      ...["choices 200", "exports 200", "me 200", "openapi.json 200"],
    ]) {
      expect([...comparedAnswers]).toContain(`GET /${expected}`);
    }
    for (const expected of [
      ...["POST /records 201", "POST /records 422", "PATCH /records 200", "PATCH /records 403", "PATCH /records 409"],
      ...[
        "PATCH /records 412",
        "PATCH /records 413",
        "PATCH /records 415",
        "PATCH /bulk-edits 200",
        "PATCH /bulk-edits 422",
      ],
      ...["POST /imports 200", "POST /imports 422", "POST /actions 200", "POST /actions 403", "DELETE /records 403"],
    ]) {
      expect([...comparedAnswers]).toContain(expected);
    }
  });

  it("mounts in Hono, with the session that the application keeps there", async () => {
    const app = new Hono<{ Variables: { person: string } }>();
    app.use(async (context, next) => {
      context.set("person", "s-003");
      await next();
    });
    app.use(
      portierRoutes({
        portier,
        connection: engine.connection,
        base,
        authenticate: (context) => ({ person: context.get("person"), request }),
      }),
    );
    app.get("/api/other", (context) => context.text("the application's own"));
    const me = await app.request("/api/me");
    expect(await me.json()).toMatchObject({ person: "s-003", home: "objects" });
    const other = await app.request("/api/other");
    expect(await other.text()).toBe("the application's own");
    const body = JSON.stringify({ values: { insured_value: "1.00" } });
    const headers = { "content-type": "application/json" };
    expect((await app.request("/api/records/objects/BM-SH-0001", { method: "PATCH", body, headers })).status).toBe(403);
  });
});
