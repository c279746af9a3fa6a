import { request } from "node:http";
import exceljs from "exceljs";
import JSZip from "jszip";
import { afterAll, beforeAll, expect, it } from "vitest";
import { startApp } from "./app.js";

// What is sent to the museum's application without its pages: by another page, by a program, by somebody with a file that is
// made to be too much.

let app: Awaited<ReturnType<typeof startApp>>;
beforeAll(async () => {
  app = await startApp(undefined, "2026-11-24T09:00:00Z");
});
afterAll(() => app?.process.kill());

const at = (path: string) => new URL(`api${path}`, app.url).href;
const json = { "content-type": "application/json" };

async function signIn(person: string, headers: Record<string, string> = json): Promise<Response> {
  return fetch(at("/sign-in"), { method: "POST", headers, body: JSON.stringify({ person }) });
}

const cookieOf = (response: Response) => (response.headers.get("set-cookie") ?? "").split(";")[0] ?? "";

/** A workbook of a few cells, with something in its parts. */
async function workbookWith(part: string, before: string, added: string): Promise<Uint8Array> {
  const workbook = new exceljs.Workbook();
  const sheet = workbook.addWorksheet("Plan");
  sheet.getCell("A1").value = "Transport";
  sheet.getCell("B1").value = 12;
  const zip = await JSZip.loadAsync(await workbook.xlsx.writeBuffer());
  const xml = (await zip.file(part)?.async("string")) ?? "";
  expect(xml).toContain(before);
  zip.file(
    part,
    xml.replace(before, () => `${added}${before}`),
  );
  return zip.generateAsync({ type: "uint8array", compression: "DEFLATE" });
}

const sheetXml = "xl/worksheets/sheet1.xml";
const whole = "A1:XFD1048576";

it.each<[string, string, string, string]>([
  ["a merge", sheetXml, "<pageMargins", `<mergeCells count="1"><mergeCell ref="${whole}"/></mergeCells>`],
  [
    "a validation",
    sheetXml,
    "<pageMargins",
    `<dataValidations count="1"><dataValidation type="whole" sqref="${whole}"><formula1>1</formula1></dataValidation></dataValidations>`,
  ],
  [
    "a conditional format",
    sheetXml,
    "<pageMargins",
    `<conditionalFormatting sqref="${whole}"><cfRule type="expression" priority="1"><formula>A1</formula></cfRule></conditionalFormatting>`,
  ],
  ["a link", sheetXml, "<pageMargins", `<hyperlinks><hyperlink ref="${whole}" location="Plan!A1"/></hyperlinks>`],
  [
    "a name",
    "xl/workbook.xml",
    "<calcPr",
    `<definedNames><definedName name="all">Plan!$A$1:$XFD$1048576</definedName></definedNames>`,
  ],
  ["columns", sheetXml, "<sheetData", `<cols><col min="1" max="16384" width="9"/></cols>`],
])("reads a workbook with %s over the whole sheet as it is without it", async (_what, part, before, added) => {
  const file = await workbookWith(part, before, added);
  expect(file.length).toBeLessThan(10_000);
  const cookie = cookieOf(await signIn("s-010"));
  const response = await fetch(at("/plan/sheet"), { method: "POST", headers: { cookie }, body: file.slice().buffer });
  expect([response.status, await response.json()]).toEqual([200, { cells: [["Transport", "12"]], ranges: [] }]);
});

it("answers others while a workbook is read, and gives up one that takes too much", async () => {
  const cookie = cookieOf(await signIn("s-010"));
  const rows = Array.from({ length: 30_000 }, (_, row) => `<row r="${row + 1}"><c r="A${row + 1}"><v>1</v></c></row>`);
  const file = await workbookWith(sheetXml, "</sheetData>", rows.join(""));
  const reading = fetch(at("/plan/sheet"), { method: "POST", headers: { cookie }, body: file.slice().buffer });
  const order: string[] = [];
  const read = reading.then((response) => {
    order.push("workbook");
    return response.status;
  });
  for (let turn = 0; turn < 3; turn++) expect((await fetch(at("/people"))).status).toBe(200);
  order.push("others");
  expect(await read).toBe(422);
  expect(order).toEqual(["others", "workbook"]);
});

it("reads a few workbooks at a time, lets a few wait, and says to the others that it is busy", async () => {
  const cookie = cookieOf(await signIn("s-010"));
  const rows = Array.from({ length: 30_000 }, (_, row) => `<row r="${row + 1}"><c r="A${row + 1}"><v>1</v></c></row>`);
  const file = await workbookWith(sheetXml, "</sheetData>", rows.join(""));
  const send = () => fetch(at("/plan/sheet"), { method: "POST", headers: { cookie }, body: file.slice().buffer });
  const responses = await Promise.all(Array.from({ length: 20 }, send));
  const statuses = responses.map(({ status }) => status).sort();
  expect(statuses).toEqual([...new Array(8).fill(422), ...new Array(12).fill(503)]);
  for (const { status, headers } of responses) expect(headers.has("retry-after")).toBe(status === 503);
});

it("takes no body that is too large, announced or not, wherever it goes", async () => {
  const cookie = cookieOf(await signIn("s-010"));
  for (const path of ["/sign-in", "/roles", "/plan/sheet", "/plan/ranges", "/records/objects", "/records/plan"]) {
    const body = new ReadableStream({
      start: (controller) => {
        for (let part = 0; part < 100; part++) controller.enqueue(new TextEncoder().encode(" ".repeat(65_536)));
        controller.close();
      },
    });
    const chunked = await fetch(at(path), {
      method: "POST",
      headers: { ...json, cookie },
      body,
      duplex: "half",
    } as RequestInit);
    expect([path, chunked.status]).toEqual([path, 413]);
    const announced = await fetch(at(path), {
      method: "POST",
      headers: { ...json, cookie },
      body: " ".repeat(5_000_001),
    });
    expect([path, announced.status]).toEqual([path, 413]);
  }
  expect((await fetch(at("/people"))).status).toBe(200);
});

it("signs nobody in for another page, in another form, or under another name of the machine", async () => {
  const form = { "content-type": "text/plain" };
  expect((await signIn("s-001")).status).toBe(204);
  expect((await signIn("s-001", form)).status).toBe(415);
  expect((await signIn("s-001", { ...json, origin: "https://elsewhere.example" })).status).toBe(403);
  expect((await signIn("s-001", { ...json, origin: "null" })).status).toBe(403);
  expect((await signIn("s-001", { ...json, origin: new URL(app.url).origin })).status).toBe(204);
  const cookie = cookieOf(await signIn("s-001"));
  const path = "/records/exhibitions/e-1";
  const patch = { method: "PATCH", body: '{"values":{"title":"x"}}' };
  const foreign = await fetch(at(path), { ...patch, headers: { ...json, cookie, origin: "http://elsewhere.example" } });
  expect(foreign.status).toBe(403);
  for (const [body, status] of [
    ["", 400],
    ["{", 400],
    ['{"person":1}', 400],
    ["null", 400],
  ] as const) {
    const response = await fetch(at("/sign-in"), { method: "POST", headers: json, body });
    expect([body, response.status]).toEqual([body, status]);
  }
  // A name that leads here, but is not this service's: what a page elsewhere would reach it by.
  const { port } = new URL(app.url);
  const status = await new Promise((resolve, reject) => {
    const sent = request({ port, path: "/api/people", headers: { host: "museum.elsewhere.example" } }, (response) =>
      resolve(response.statusCode),
    );
    sent.on("error", reject).end();
  });
  expect(status).toBe(403);
});

it("serves any number of windows that wait for changes", async () => {
  const windows = await Promise.all(
    Array.from({ length: 30 }, async () => {
      const end = new AbortController();
      const response = await fetch(at("/changes"), { signal: end.signal });
      const reader = (response.body as ReadableStream<Uint8Array>).getReader();
      const first = new TextDecoder().decode((await reader.read()).value);
      return { end, reader, first };
    }),
  );
  for (const { first } of windows) expect(first).toContain("event: ready");
  expect((await fetch(at("/people"))).status).toBe(200);
  const cookie = cookieOf(await signIn("s-001"));
  const change = { kind: "assign", person: "s-007", role: "volunteer" };
  const send = (path: string, body: object) =>
    fetch(at(path), { method: "POST", headers: { ...json, cookie }, body: JSON.stringify(body) });
  const { outcome } = (await (await send("/roles/preview", { change })).json()) as {
    outcome: { warnings: { id: string }[] };
  };
  expect((await send("/roles", { change, confirmed: outcome.warnings.map(({ id }) => id) })).status).toBe(200);
  for (const { reader, end } of windows) {
    expect(new TextDecoder().decode((await reader.read()).value)).toContain("event: access");
    end.abort();
  }
});
