import { readFileSync } from "node:fs";
import exceljs from "exceljs";
import JSZip from "jszip";
import type { Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, describe, expect, it } from "vitest";
import { barriers, chromiumPath } from "../../../test/support/browser.js";
import { type App, appDatabases, openApp, pageDatabases } from "./app.js";

/** A cell by its place in the grid: row and column as the sheet counts them. The header is a row, the numbers a column. */
const cell = (page: Page, row: number, column: number) =>
  page.locator(`[role=row][aria-rowindex="${row + 1}"] [role=gridcell][aria-colindex="${column + 1}"]`);
const shown = (page: Page, row: number, column: number) =>
  expect.poll(async () => (await cell(page, row, column).textContent())?.trim());
const button = (page: Page, name: string | RegExp) => page.getByRole("button", { name, exact: true });
const status = (page: Page) => expect.poll(() => page.getByRole("status").textContent());
const dialog = (page: Page) => page.getByRole("dialog");

/** What the clipboard events of a browser do, as a page cannot reach the real one. */
async function paste(page: Page, text: string): Promise<void> {
  await page.evaluate((given) => {
    const clipboardData = new DataTransfer();
    clipboardData.setData("text/plain", given);
    const event = new ClipboardEvent("paste", { clipboardData, bubbles: true, cancelable: true });
    document.activeElement?.dispatchEvent(event);
  }, text);
}

const copied = (page: Page) =>
  page.evaluate(() => {
    const clipboardData = new DataTransfer();
    document.activeElement?.dispatchEvent(new ClipboardEvent("copy", { clipboardData, bubbles: true }));
    return clipboardData.getData("text/plain");
  });

async function edit(page: Page, row: number, column: number, text: string): Promise<void> {
  await cell(page, row, column).click();
  await page.keyboard.press("Enter");
  await page.keyboard.press("Control+a");
  await page.keyboard.type(text);
  await page.keyboard.press("Enter");
}

const takeIn = (page: Page, name: string, buffer: Buffer) =>
  page.locator("input[type=file]").setInputFiles({ name, mimeType: "application/octet-stream", buffer });

/** The workbook that somebody saves, by the address that the page links to. */
async function savedWorkbook(page: Page): Promise<Buffer> {
  const href = await page.getByRole("link", { name: "Save as XLSX" }).getAttribute("href");
  return (await page.request.get(new URL(href ?? "", page.url()).href)).body();
}

describe.skipIf(chromiumPath === undefined).each(pageDatabases)("the plan on %s", (...database) => {
  let app: App;
  beforeAll(async () => {
    app = await openApp(database);
  });
  afterAll(() => app?.close());
  afterEach(() => app.leave());

  async function openPlan(who: string, width?: number): Promise<Page> {
    const page = await app.enter(who, width);
    await app.go(page, "plan");
    await expect.poll(() => page.getByRole("gridcell").count()).toBeGreaterThan(20);
    await expect.poll(() => page.getByRole("button", { name: /^Go to/ }).count()).toBeGreaterThan(6);
    return page;
  }

  it("is where the treasurer lands: thousands of rows of which a few are drawn, what is locked marked in words, too", async () => {
    const page = await app.enter("Saoirse Dahl");
    await expect.poll(() => page.getByRole("gridcell").count()).toBeGreaterThan(20);
    await status(page).toBe("1928 rows");
    expect(await page.getByRole("row").count()).toBeLessThan(60);
    expect(await cell(page, 1, 2).getByRole("img").getAttribute("aria-label")).toBe("locked");
    expect(await cell(page, 1, 2).getAttribute("aria-readonly")).toBe("true");
    expect(await cell(page, 2, 2).getAttribute("aria-readonly")).not.toBe("true");
    expect(await cell(page, 2, 6).getAttribute("aria-readonly")).toBe("true");
    // Tried by keyboard, a locked cell says why, and stays.
    await cell(page, 1, 2).click();
    await page.keyboard.type("5");
    await status(page).toBe("The heading is the director's.");
    await expect
      .poll(() => page.locator("#plan-cell").textContent())
      .toBe("B1 Q1: locked – The heading is the director's.");
    await cell(page, 3, 1).dblclick();
    await status(page).toBe("You may not edit this.");
    expect(await page.locator("[role=gridcell] input").count()).toBe(0);
  });

  it("takes a number, works the total out, and says no to what is none", async () => {
    const page = await openPlan("Saoirse Dahl");
    await edit(page, 3, 3, "1000");
    await shown(page, 3, 3).toBe("1000.00");
    await shown(page, 3, 6).toBe("3800.00");
    await edit(page, 3, 3, "many");
    await expect.poll(() => dialog(page).textContent()).toMatch(/1 of 1 cells cannot be changed[\s\S]*C3/);
    await button(page, "Leave everything as it is").click();
    await shown(page, 3, 3).toBe("1000.00");
    await edit(page, 3, 3, "900");
    await shown(page, 3, 6).toBe("3700.00");
  });

  it("lists what is refused of a mixed block, and does the rest", async () => {
    const page = await openPlan("Saoirse Dahl");
    await cell(page, 1, 1).click();
    await paste(page, "New\t1\t2\nMoved\t1,300.50\t801\r\nInsurance\t900\tlots\n");
    await expect
      .poll(() => dialog(page).getByRole("row").allTextContents())
      .toEqual([
        "A1The heading is the director's.",
        "B1The heading is the director's.",
        "C1The heading is the director's.",
        'A2You may not set "Item".',
        expect.stringMatching(/^C3./),
      ]);
    expect(await barriers(page)).toEqual([]);
    await button(page, "Change 2 other cells").click();
    await status(page).toBe("2 cells changed.");
    await shown(page, 2, 2).toBe("1300.50");
    await shown(page, 2, 3).toBe("801.00");
    await shown(page, 2, 1).toBe("Transport");
    // Chosen with Shift and the arrow keys, copied, emptied, and pasted back.
    await cell(page, 2, 2).click();
    await page.keyboard.press("Shift+ArrowRight");
    await page.keyboard.press("Shift+ArrowDown");
    await expect.poll(() => page.locator("#plan-cell").textContent()).toContain("(4 cells chosen)");
    const block = await copied(page);
    expect(block).toMatch(/^1300\.50\t801(?:\.00)?\n900(?:\.00)?\t900(?:\.00)?$/);
    await page.keyboard.press("Delete");
    await shown(page, 3, 3).toBe("");
    await paste(page, block);
    await shown(page, 3, 3).toBe("900.00");
    await paste(page, "1200\t800");
    await shown(page, 2, 6).toBe("5000.00");
    await paste(page, "1\t2\t3\t4\t5\t6\t7");
    await status(page).toBe("The block is 1 column wider than the plan.");
  });

  it("asks the director before a total is changed", async () => {
    const page = await openPlan("Ines Okoro");
    expect(await cell(page, 4, 6).getByRole("img").getAttribute("aria-label")).toBe("may be edited after a question");
    await edit(page, 4, 6, "1");
    await expect.poll(() => dialog(page).textContent()).toContain("Totals are worked out from the quarters.");
    await button(page, "Leave everything as it is").click();
    await shown(page, 4, 6).toMatch(/^3700.00/);
    await edit(page, 4, 6, "1");
    await button(page, "Yes, change 1 cell").click();
    await shown(page, 4, 6).toMatch(/^1.00/);
  });

  it("lets ranges follow rows that are inserted and deleted, in another window, too", async () => {
    const treasurer = await openPlan("Saoirse Dahl");
    const director = await openPlan("Ines Okoro");
    await cell(director, 1, 1).click();
    await button(director, "Insert a row above").click();
    await status(director).toBe("Row 1 inserted.");
    await shown(director, 2, 1).toBe("Item");
    const names = (page: Page) =>
      page.getByRole("button", { name: /^Go to/ }).evaluateAll((all) => all.map((one) => one.ariaLabel));
    // What people protected moves; what a rule permits stays where the rule says.
    const after = ["A2:G2", "B2:E amounts", "B3:B", "C3:C", "D3:D", "E3:E", "F3:F"];
    await expect.poll(() => names(director)).toEqual(after.map((name) => `Go to ${name}`));
    await expect.poll(() => names(treasurer)).toEqual(after.map((name) => `Go to ${name}`));
    await shown(treasurer, 2, 1).toBe("Item");
    await expect.poll(() => cell(treasurer, 2, 2).getByRole("img").count()).toBe(1);
    // The row above the heading is in no range: nobody but the director edits it, and the heading is still locked.
    await cell(treasurer, 2, 2).click();
    await treasurer.keyboard.type("5");
    await status(treasurer).toBe("The heading is the director's.");
    await cell(director, 1, 1).click();
    await button(director, "Delete the row").click();
    await status(director).toBe("Row 1 deleted.");
    // With the heading, its protection would be gone: that is said first, and can be left.
    await shown(director, 1, 1).toBe("Item");
    await cell(director, 1, 1).click();
    await button(director, "Delete the row").click();
    await expect
      .poll(() => dialog(director).textContent())
      .toContain("A1:G1 would no longer be protected: The heading is the director's.");
    await button(director, "Cancel").click();
    await expect.poll(() => names(director)).toContain("Go to A1:G1 heading");
    expect(await treasurer.getByRole("button", { name: /row/ }).count()).toBe(0);
  });

  it("lets nobody be disturbed while they edit, and writes to the row that they began with", async () => {
    const treasurer = await openPlan("Saoirse Dahl");
    const director = await openPlan("Ines Okoro");
    const begin = async (text: string) => {
      await cell(treasurer, 6, 3).click();
      await treasurer.keyboard.press("Enter");
      await treasurer.keyboard.press("Control+a");
      await treasurer.keyboard.type(text);
    };
    await begin("4801");
    // Somebody's roles change: everything is asked anew, and the rows are as they were.
    const change = (kind: string) => ({ change: { kind, person: "s-008", role: "assistant" } });
    const roles = new URL("/api/roles", app.url).href;
    const asked = treasurer.waitForResponse((answer) => answer.url().includes("/api/plan/ranges"));
    const { outcome } = await (await director.request.post(`${roles}/preview`, { data: change("assign") })).json();
    const confirmed = outcome.warnings.map(({ id }: { id: string }) => id);
    expect((await director.request.post(roles, { data: { ...change("assign"), confirmed } })).status()).toBe(200);
    await asked;
    await treasurer.waitForTimeout(300);
    await treasurer.keyboard.type("5");
    await treasurer.keyboard.press("Enter");
    await shown(treasurer, 6, 3).toBe("48015.00");
    await director.request.post(roles, { data: { ...change("revoke"), confirmed: [] } });
    await edit(treasurer, 6, 3, "4800");
    await shown(treasurer, 6, 3).toBe("4800.00");
    // A row comes in above: what was being edited is let go of, and nothing is written elsewhere.
    await begin("1");
    await cell(director, 2, 1).click();
    await button(director, "Insert a row above").click();
    await shown(treasurer, 7, 1).toBe("Building work");
    await treasurer.keyboard.press("Enter");
    await treasurer.keyboard.press("Escape");
    await shown(treasurer, 7, 3).toBe("4800.00");
    await shown(treasurer, 6, 3).toBe("2200.00");
    await cell(director, 2, 1).click();
    await button(director, "Delete the row").click();
    await shown(treasurer, 6, 1).toBe("Building work");
  });

  it("judges no row by ranges that stand elsewhere, whenever they move", async () => {
    const [treasurer, director] = [await app.enter("Saoirse Dahl"), await app.enter("Ines Okoro")];
    const api = (path: string) => new URL(`/api${path}`, app.url).href;
    // Below an inserted row the heading stands where amounts stood: only with its range is it locked.
    const moving = (async () => {
      for (let turn = 0; turn < 3; turn++) {
        const made = await director.request.post(api("/plan/rows"), { data: { at: 1 } });
        const { key } = (await made.json()) as { key?: string };
        if (key !== undefined) await director.request.delete(api(`/plan/rows/${key}`), { data: {} });
      }
    })();
    const statuses = new Set<number>();
    for (let turn = 0; turn < 9; turn++) {
      const values = { q1: String(turn) };
      const answer = await treasurer.request.patch(api("/records/plan"), {
        data: { changes: [{ key: "b-01", values }] },
      });
      statuses.add(answer.status());
    }
    await moving;
    // Where others stand in the way for too long, that is said, and nothing is done.
    statuses.delete(503);
    expect([...statuses]).toEqual([422]);
    const heading = await director.request.get(api("/records/plan/b-01"));
    expect(await heading.json()).toMatchObject({ row: 1, q1: null });
    expect((await director.request.post(api("/plan/rows"), { data: { at: "2" } })).status()).toBe(400);
  });

  it("jumps to a range, and protects cells, for whom and with which note, after saying what comes of it", async () => {
    const treasurer = await openPlan("Saoirse Dahl");
    const director = await openPlan("Ines Okoro");
    await button(director, "Protect cells").click();
    await director.getByRole("textbox", { name: "Cells" }).fill("B1500:C1500");
    await director.getByRole("combobox", { name: "Copy from" }).click();
    await director.getByRole("option", { name: /heading/ }).click();
    await director.getByRole("textbox", { name: "Note" }).fill("Agreed with the guild.");
    await button(director, "Preview").click();
    const preview = director.getByTestId("range-preview");
    await expect.poll(() => preview.textContent()).toMatch(/Saoirse Dahlloses edit q1, q2 on 1 of 1928 rows/);
    expect(await barriers(director)).toEqual([]);
    await button(director, "Save").click();
    await button(treasurer, "Go to B1500:C1500").click();
    await expect
      .poll(() => treasurer.locator("#plan-cell").textContent())
      .toBe("B1500 Q1: locked – Agreed with the guild.");
    await button(director, "Change B1500:C1500").click();
    await director.getByRole("textbox", { name: "Cells" }).fill("ZZ1:ZZ2");
    await button(director, "Preview").click();
    await expect.poll(() => dialog(director).textContent()).toMatch(/not valid.*beyond the last column, G/);
    await button(director, "Remove this protection").click();
    await expect
      .poll(() => preview.textContent())
      .toMatch(/will be less protected than now: Agreed with the guild\.Saoirse Dahlgains edit q1, q2/);
    // Who made a protection, or whom it names, may change it: for others there is no button, and a forged request is refused.
    expect(await treasurer.getByRole("button", { name: /^Change/ }).count()).toBe(0);
    await button(director, "Remove").click();
    await expect.poll(() => treasurer.getByRole("button", { name: /B1500/ }).count()).toBe(0);
    const ranges = new URL("/api/plan/ranges", app.url).href;
    const change = async (page: Page, change: object, confirmed: readonly string[] = []) => {
      const answer = await page.request.post(ranges, { data: { change, confirmed } });
      return { status: answer.status(), body: await answer.json() };
    };
    expect(await change(treasurer, { kind: "unprotect", id: "heading" })).toMatchObject({ status: 422 });
    const own = { kind: "protect", table: "plan", ranges: "C1600", to: ["person s-010"], note: "Mine." };
    expect(await change(treasurer, { ...own, ranges: "A1" })).toMatchObject({ status: 422 });
    expect(await change(treasurer, own)).toMatchObject({ status: 200 });
    await expect.poll(() => button(director, "Go to C1600").count()).toBe(1);
    expect(await director.getByRole("button", { name: "Change C1600" }).count()).toBe(0);
    const cells = { changes: [{ key: "b-1600", values: { q2: "1" } }] };
    const edited = (page: Page) => page.request.patch(new URL("/api/records/plan", app.url).href, { data: cells });
    expect((await edited(director)).status()).toBe(422);
    expect((await edited(treasurer)).status()).toBe(200);
    await expect.poll(() => button(treasurer, "Change C1600").count()).toBe(1);
    await button(treasurer, "Change C1600").click();
    await button(treasurer, "Remove this protection").click();
    await button(treasurer, "Remove").click();
    await expect.poll(() => button(director, "Go to C1600").count()).toBe(0);
    expect((await director.request.post(ranges, { data: { change: { kind: "rename" } } })).status()).toBe(400);
    const row = { at: 1 };
    const refused = await treasurer.request.post(new URL("/api/plan/rows", app.url).href, { data: row });
    expect(refused.status()).toBe(422);
    // The person is told what is protected, and never by which rule.
    expect(await refused.text()).not.toContain('"rule"');
    expect(await (await treasurer.request.get(ranges)).text()).not.toContain('"rule"');
  });

  it("goes out as a workbook that is locked where the plan is, and comes back in", async () => {
    const page = await openPlan("Saoirse Dahl");
    const file = await savedWorkbook(page);
    const workbook = new exceljs.Workbook();
    await workbook.xlsx.load(file as unknown as ArrayBuffer);
    const [sheet] = workbook.worksheets;
    expect(sheet?.getCell("A2").value).toBe("Transport");
    expect(sheet?.getCell("B2").value).toBe(1200);
    // Cells of a protected sheet are locked unless they say that they are not.
    const lock = (address: string) => sheet?.getCell(address).protection?.locked !== false;
    expect(["A1", "A2", "B2", "E1928", "F2"].map(lock)).toEqual([true, true, false, false, true]);
    const zip = await JSZip.loadAsync(file);
    const xml = await zip.file("xl/worksheets/sheet1.xml")?.async("string");
    expect(xml).toContain('<protectedRanges><protectedRange sqref="B2:E1048576" name="amounts"/></protectedRanges>');
    expect(xml).toMatch(/<sheetProtection sheet="1"/);
    // The same file changes nothing, and says of no range that it is not here.
    await takeIn(page, "plan.xlsx", file);
    await status(page).toBe("The block changes nothing.");
    if (sheet === undefined) throw new Error("no sheet");
    sheet.getCell("B5").value = 333;
    sheet.getCell("A5").value = "Mine";
    sheet.getCell("C5").value = { formula: "B5*2", result: 666 };
    await takeIn(page, "plan.xlsx", Buffer.from(await workbook.xlsx.writeBuffer()));
    await expect.poll(() => dialog(page).getByRole("row").allTextContents()).toEqual(['A5You may not set "Item".']);
    await button(page, "Change 2 other cells").click();
    await shown(page, 5, 2).toBe("333.00");
    await shown(page, 5, 3).toBe("666.00");
    await takeIn(page, "plan.xlsx", Buffer.from("PK no workbook"));
    await status(page).toBe("This file is not an XLSX workbook.");
    const bomb = new JSZip().file("xl/worksheets/sheet1.xml", "0".repeat(60_000_000));
    await takeIn(page, "plan.xlsx", await bomb.generateAsync({ type: "nodebuffer", compression: "DEFLATE" }));
    await status(page).toBe("This workbook unpacks to more than the limit.");
    const [download] = await Promise.all([page.waitForEvent("download"), button(page, "Save as CSV").click()]);
    const text = readFileSync(await download.path(), "utf8");
    expect(text).toMatch(
      /^Item,,,,,,Budget 2027\r\nTransport,1200(?:\.00)?,800(?:\.00)?,2400\.00,600\.00,5000\.00,\r\n/,
    );
    await takeIn(page, "plan.csv", Buffer.from(text.replace(/333(?:\.00)?,666(?:\.00)?/, "300.00,2200.00")));
    await status(page).toBe("2 cells changed.");
    await shown(page, 5, 2).toBe("300.00");
  });

  it("protects what is protected in a workbook, and adds rows for a block that is longer", async () => {
    const page = await openPlan("Ines Okoro");
    const file = await savedWorkbook(page);
    const zip = await JSZip.loadAsync(file);
    const name = "xl/worksheets/sheet1.xml";
    const xml = (await zip.file(name)?.async("string")) ?? "";
    zip.file(
      name,
      xml.replace(
        /<protectedRanges>.*<\/protectedRanges>/,
        () =>
          '<protectedRanges><protectedRange sqref="B2:E1900" name="amounts"/><protectedRange name="remarks" sqref="G2:G1048576"/></protectedRanges>',
      ),
    );
    await takeIn(page, "plan.xlsx", await zip.generateAsync({ type: "nodebuffer" }));
    const found = page.getByRole("alert").filter({ hasText: "Protected ranges in the file" });
    await expect
      .poll(() => found.textContent())
      .toMatch(/B2:E1900 “amounts” is not here\..*G2:G “remarks” is not here\./);
    await found.getByRole("button", { name: "Protect it here" }).last().click();
    await page.getByRole("combobox", { name: "Edited by" }).click();
    await page.getByRole("option", { name: "registrar" }).click();
    await page.keyboard.press("Escape");
    await button(page, "Preview").click();
    await expect
      .poll(() => page.getByTestId("range-preview").textContent())
      .toMatch(/ou will not be able to edit G2:G of "plan".*Ines Okoroloses edit remark on 1927 of 1928/);
    await button(page, "Save").click();
    await expect.poll(() => button(page, "Go to G2:G").count()).toBe(1);
    await expect.poll(() => cell(page, 2, 7).getByRole("img").getAttribute("aria-label")).toBe("locked");
    // The last row is the last that is drawn, by Ctrl+End; the block has one more.
    await cell(page, 2, 1).click();
    await page.keyboard.press("Control+End");
    await expect.poll(() => page.locator("#plan-cell").textContent()).toMatch(/^G1928/);
    await page.keyboard.press("Home");
    await page.keyboard.press("ArrowRight");
    await paste(page, "Last\nBeyond");
    await status(page).toBe("1 cell changed.");
    await button(page, "Add 1 row at the end").click();
    await status(page).toBe("1 row added: paste the block once more.");
    await paste(page, "Last\nBeyond");
    await shown(page, 1929, 1).toBe("Beyond");
  });

  it("fits a phone, where the ranges come below", async () => {
    const page = await openPlan("Saoirse Dahl", 390);
    expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(390);
  });
});

describe.skipIf(chromiumPath === undefined)("the plan in May", () => {
  it("is locked for the quarter that is over, and no forged request changes it", async () => {
    const [pglite] = appDatabases;
    const app = await openApp(pglite as (typeof appDatabases)[number], "2027-05-01T09:00:00Z");
    const page = await app.enter("Saoirse Dahl");
    await expect.poll(() => page.getByRole("gridcell").count()).toBeGreaterThan(20);
    await cell(page, 2, 2).click();
    await expect.poll(() => page.locator("#plan-cell").textContent()).toBe("B2 Q1: locked – This quarter is over.");
    const forged = await page.request.patch(new URL("/api/records/plan", app.url).href, {
      data: { changes: [{ key: "b-02", values: { q1: "1.00" } }] },
    });
    expect(forged.status()).toBe(422);
    await edit(page, 2, 3, "850");
    await shown(page, 2, 3).toBe("850.00");
    await app.leave();
    await app.close();
  });
});
