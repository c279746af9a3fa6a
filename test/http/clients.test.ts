import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { accessHandler, openApi } from "portier/http";
import { afterAll, beforeAll, expect, it } from "vitest";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { portier, records } from "../support/museum.js";
import { compilers, typechecked } from "../support/typechecked.js";

// What others make of the description of the interface: types and clients, by two generators, compiled as their users would,
// and one of them run against the service.

const folder = mkdtempSync("test/clients/made-");
// biome-ignore lint/suspicious/noExplicitAny: made at run time
type Made = any;
let ts: Made;
let made: Readonly<Record<string, string>>;
let engine: Engine;

beforeAll(async () => {
  const actions = { objects: { photograph: async () => {} } };
  const document = openApi(portier.schema.tables, { base: "/api", actions });
  const tools: Made = await import(new URL("../clients/generate.mjs", import.meta.url).href);
  ts = tools.typescript;
  made = { "described.ts": await tools.types(document), "api.ts": await tools.client(document) };
  writeFileSync(join(folder, "api.ts"), made["api.ts"] ?? "");
  engine = await (engines["SQLite"] as () => Promise<Engine>)();
  await createTables(engine, portier.schema);
  const all = [...portier.schema.tables.keys()].map((name) => [name, records(name)] as const);
  await storeAll(engine, portier.schema, Object.fromEntries(all));
});
afterAll(async () => {
  rmSync(folder, { recursive: true });
  await engine?.close();
});

it("compiles against everything that is promised, and against nothing else", () => {
  const program = `
import type { components, operations, paths } from "./described.js";
import { Api, type Problem } from "./api.js";

type Answer<O extends keyof operations, S extends number> =
  operations[O]["responses"] extends { [K in S]: { content: { "application/json": infer A } } } ? A : never;

const page: Answer<"list_objects", 200> = { records: [{ accession: "BM-X", label: null }], total: 1, next: null };
const key: string = page.records[0]!.accession;
const status: "registered" | "on_display" | "on_loan" | "withdrawn" | null | undefined = page.records[0]!.status;
const made: Answer<"create_objects", 201> = { record: null, dropped: [{ reason: "denied", message: "No.", field: "shelf" }] };
const done: Answer<"bulkEdit_objects", 200> = { accepted: true, results: [{ accepted: true }] };
const refused: Answer<"import_objects", 422> = {
  accepted: false,
  results: [{ accepted: false, reason: "invalid", refusals: [] }, { accepted: true }],
};
const form: Answer<"form_objects", 200> = { table: "objects", label: "Objects", isNew: false, fields: [{ name: "label", label: "Label", type: "text", state: "editable", required: false }], actions: [] };
const choices: Answer<"choicesOf_objects", 200> = { choices: ["a", 1, true] };
const me: Answer<"me", 200> = { person: null, roles: [], screens: [], home: null };
const problem: components["schemas"]["Problem"] = { type: "urn:portier:problem:refused", title: "", status: 403 };
const version: paths["/records/objects/{key}"]["patch"]["parameters"]["header"] = { "If-Match": "x" };
const query: operations["list_plan"]["parameters"]["query"] = { limit: 1, null: "q1", where: "q1 > 1" };

// @ts-expect-error a record without its key
const keyless: Answer<"view_objects", 200> = { title: "x" };
// @ts-expect-error no such field
const odd: components["schemas"]["Values_objects"] = { titel: "x" };
// @ts-expect-error no such choice
const lost: components["schemas"]["Values_objects"] = { status: "lost" };
// @ts-expect-error what is worked out is not given
const given: components["schemas"]["Values_exhibits"] = { object_title: "x" };
// @ts-expect-error a page has its total
const part: Answer<"list_objects", 200> = { records: [] };
// @ts-expect-error a table has its own actions alone
const acts: paths["/actions/loans/{key}/photograph"] = undefined;

export async function use(api: Api<unknown>): Promise<readonly unknown[]> {
  const list = await api.records.listObjects({ limit: 2, sort: "-title" });
  const first: string = list.data.records[0]!.accession;
  const changed = await api.records.editObjects(first, { values: { label: "Rung." } });
  const told: string | null | undefined = changed.data.record?.label;
  const error: Problem = list.error;
  // @ts-expect-error no such field
  await api.records.editObjects(first, { values: { titel: "x" } });
  // @ts-expect-error the values are missing
  await api.records.createObjects({});
  return [key, status, made, done, refused, form, choices, me, problem, version, query, keyless, odd, lost, given, part, acts, told, error];
}
`;
  // The compiler does look: a wrong use is an error.
  const wrong = program.replace("// @ts-expect-error a record without its key", "");
  const said = typechecked([program, wrong], { noUncheckedIndexedAccess: true, types: [] }, compilers[7], made);
  expect(said.match(/^\S.*error/gm)).toEqual([expect.stringContaining("use-1.ts")]);
});

it("works against the service", async () => {
  const { outputText } = ts.transpileModule((await import("node:fs")).readFileSync(join(folder, "api.ts"), "utf8"), {
    compilerOptions: { target: ts.ScriptTarget.ES2022, module: ts.ModuleKind.ESNext },
  });
  const file = join(folder, "api.mjs");
  writeFileSync(file, outputText);
  const { Api }: Made = await import(new URL(`../../${file}`, import.meta.url).href);
  const handle = accessHandler({
    portier,
    connection: engine.connection,
    base: "/api",
    authenticate: (request) => ({ person: request.headers.get("authorization") === "Bearer s-005" ? "s-005" : null }),
  });
  const api = new Api({
    baseUrl: "http://museum.test/api",
    customFetch: (url: string, init: RequestInit) => handle(new Request(url, init)),
    securityWorker: () => ({ headers: { authorization: "Bearer s-005" } }),
    baseApiParams: { secure: true, headers: { accept: "application/json" } },
  });
  const list = await api.records.listObjects({ limit: 2, sort: "accession", department: "ships" });
  expect(list.data).toMatchObject({ records: [{ accession: "BM-SH-0001" }, { accession: "BM-SH-0002" }] });
  const seen = await api.records.viewObjects("BM-SH-0001");
  const headers = { "if-match": seen.headers.get("etag") };
  const changed = await api.records.editObjects("BM-SH-0001", { values: { condition_note: "Seen." } }, { headers });
  expect(changed.data.record).toMatchObject({ condition_note: "Seen." });
  const many = await api.bulkEdits.bulkEditObjects({
    keys: ["BM-SH-0001", "BM-SH-0002"],
    values: { condition_note: "Both." },
  });
  expect(many.data).toEqual({ accepted: true, results: [{ accepted: true }, { accepted: true }] });
  const late = api.records.editObjects("BM-SH-0001", { values: { condition_note: "Late." } }, { headers });
  await expect(late).rejects.toMatchObject({ status: 412, error: { type: "urn:portier:problem:changed" } });
  expect((await api.forms.formObjects("BM-SH-0001")).data.isNew).toBe(false);
  expect((await api.choices.choicesOfObjects("status", "BM-SH-0001")).data.choices).toContain("on_display");
  expect((await api.me.me()).data.person).toBe("s-005");
});
