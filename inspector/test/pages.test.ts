import { type ChildProcess, spawn } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { request } from "node:http";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import type { Browser, BrowserContext, Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { barriers, chromiumPath, launch } from "../../test/support/browser.js";
import { createTables, type Engine, engines, storeAll } from "../../test/support/engines.js";
import { as, museumFile, portier, records } from "../../test/support/museum.js";

interface Opened {
  readonly address: string;
  readonly process: ChildProcess;
}

/** Starts the command as it is started by hand. */
async function open(file: string, ...more: string[]): Promise<Opened> {
  const child = spawn("node", ["dist/cli/main.js", "inspect", file, "--at", "2026-11-24", ...more]);
  let said = "";
  const address = await new Promise<string>((resolve, reject) => {
    const hear = (part: Buffer) => {
      said += String(part);
      const [found] = /http:\S+/.exec(said) ?? [];
      if (found !== undefined) resolve(found);
    };
    child.stdout.on("data", hear);
    child.stderr.on("data", hear);
    child.on("exit", () => reject(new Error(said)));
  });
  return { address, process: child };
}

/** The museum in a folder of its own. */
function museumFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), "inspector-"));
  cpSync(dirname(museumFile), folder, { recursive: true });
  return folder;
}

describe.skipIf(chromiumPath === undefined)("the inspector", () => {
  let browser: Browser;
  let folder: string;
  let opened: Opened;
  let windows: BrowserContext[] = [];
  const complaints: string[] = [];
  const file = () => join(folder, "museum.portier.yaml");
  const rules = () => readFileSync(file(), "utf8");

  beforeAll(async () => {
    browser = await launch();
  });
  afterAll(() => browser?.close());
  beforeEach(async () => {
    folder = museumFolder();
    opened = await open(file());
  });
  afterEach(async () => {
    for (const one of windows) await one.close();
    windows = [];
    opened.process.kill();
    rmSync(folder, { recursive: true });
    expect(complaints.splice(0)).toEqual([]);
  });

  async function enter(path: string, width = 1280, address = opened.address): Promise<Page> {
    const context = await browser.newContext({ viewport: { width, height: 800 } });
    windows.push(context);
    const page = await context.newPage();
    page.on("pageerror", (error) => complaints.push(error.message));
    page.on("console", (message) => {
      if (message.type() === "error" && !/status of 409/.test(message.text())) complaints.push(message.text());
    });
    await page.goto(address + path);
    await page.locator("main").waitFor();
    return page;
  }
  const go = (page: Page, path: string) => page.goto(opened.address + path);
  const button = (page: Page, name: string | RegExp) => page.getByRole("button", { name, exact: true });
  const text = (page: Page, where = "main") => expect.poll(() => page.locator(where).textContent());
  const side = (page: Page, name: string | RegExp) => page.getByRole("tab", { name }).click();

  /** Writes in place of what is there, as a hand does: finds it, and types. */
  async function rewrite(page: Page, was: string, is: string): Promise<void> {
    await page.locator(".cm-content").click();
    await page.keyboard.press("Control+f");
    await page.keyboard.press("Control+a");
    await page.keyboard.type(was);
    await page.keyboard.press("Enter");
    await page.keyboard.press("Escape");
    await page.keyboard.insertText(is);
  }

  it("shows tables as two people see them, and says why, by keyboard alone", async () => {
    const page = await enter("#/view-as/objects?as=s-003&compare=visitor");
    const known = as().maskAll("objects", records("objects"), "list").length;
    await text(page, ".counts").toBe(
      `Odalys Quint (assistant, editor of e-1, keeper, lead of e-1): 400 of 400 existA visitor (no role): ${known} of 400 exist`,
    );
    await expect.poll(() => page.getByRole("gridcell").count()).toBeGreaterThan(100);
    expect(await page.getByRole("gridcell", { name: "does not exist for A visitor" }).count()).toBeGreaterThan(0);
    const grid = page.getByRole("grid", { name: "Objects" });
    await grid.focus();
    for (const key of ["End", "ArrowLeft", "Enter"]) await page.keyboard.press(key);
    const why = page.getByRole("complementary", { name: "Why" });
    await expect
      .poll(() => why.textContent())
      .toMatch(/May Odalys Quint view Insured value of Objects BM-SH-0001\?.*NO.*objects\/value-stays/);
    await why.getByText("edit", { exact: true }).click();
    await expect.poll(() => why.textContent()).toMatch(/May Odalys Quint edit/);
    await page.keyboard.press("Escape");
    await expect.poll(() => why.count()).toBe(0);
    await page.getByText("different", { exact: true }).click();
    await page.getByRole("textbox", { name: "Search in Objects" }).fill("sextant");
    await expect.poll(() => page.getByRole("row").count()).toBeLessThan(30);
    await page.getByRole("combobox", { name: "View as" }).click();
    await page.getByRole("combobox", { name: "View as" }).fill("Saoirse");
    await page.getByRole("option", { name: "Saoirse Dahl, s-010" }).click();
    await page.getByRole("button", { name: "Budget plan 8" }).click();
    expect(page.url()).toContain("#/view-as/plan?as=s-010&compare=visitor");
    await text(page, ".counts").toContain("Saoirse Dahl (treasurer): 8 of 8 exist");
  });

  it("shows the matrix as marks, filtered and sorted, and leads from a cell to what it is about", async () => {
    const page = await enter("#/matrix");
    const rows = page.getByRole("row");
    const first = rows.nth(1);
    await expect.poll(() => rows.count()).toBeGreaterThan(20);
    expect(await first.textContent()).toContain("Anselm Roux");
    const cell = page.getByRole("link", { name: /^anyone not signed in, Objects: list some, 186 of 400; view some/ });
    // Every action that anybody may do has its mark, and none other.
    expect(await cell.locator(".mark").count()).toBe(9);
    await cell.hover();
    await text(page, ".legend").toContain("anyone not signed in, Objects: list some, 186 of 400");
    await cell.click();
    await expect.poll(() => page.url()).toContain("#/view-as/objects?as=visitor");
    await go(page, "#/matrix");
    await page.getByLabel("Filter people").fill("REGIS");
    await page.getByLabel("Filter tables").fill("plan");
    await expect.poll(() => rows.count()).toBe(2);
    expect(await first.textContent()).toContain("Kofi Lindqvist");
    expect(await page.getByRole("columnheader").allTextContents()).toEqual([
      "people ↑",
      expect.stringMatching(/Budget plan$/),
    ]);
    await page.getByLabel("Filter people").fill("");
    await page.getByRole("button", { name: "Budget plan" }).click();
    expect(await first.textContent()).toContain("Ines Okoro");
    await page.getByText("roles", { exact: true }).click();
    await expect.poll(() => first.textContent()).toMatch(/^director/);
    expect(await first.getByRole("img").getAttribute("aria-label")).toContain(
      "director, Budget plan: list all; view all",
    );
  });

  it("completes, marks what is wrong where it is, and saves nothing that is", async () => {
    const page = await enter("#/rules");
    await expect.poll(() => page.getByRole("tab", { name: "Remarks" }).textContent()).toBe("Remarks");
    await rewrite(page, "[title, label, material, made_in]", "[titel]");
    await text(page, ".remarks").toMatch(
      /error line 128: Table "objects" has no field "titel". Did you mean "title"\?/,
    );
    await expect.poll(() => page.locator(".cm-lintRange-error").textContent()).toBe("titel");
    await expect.poll(() => button(page, "Save …").isDisabled()).toBe(true);
    await page.keyboard.press("Control+s");
    await text(page).toContain("The rules have errors. Fix them before saving.");
    // What is shown elsewhere is by the last version without errors, and says so.
    await page.getByRole("link", { name: "View as" }).click();
    await text(page, ".shell").toContain("from the last version without errors");
    await page.getByRole("link", { name: "Rules", exact: true }).click();
    await rewrite(page, "titel", "l");
    await page.keyboard.type("ab");
    await expect.poll(() => page.locator(".cm-tooltip-autocomplete").textContent()).toContain("label");
    // What has only just come up is not taken by a key that was on its way.
    await page.waitForTimeout(200);
    await page.keyboard.press("Enter");
    await expect.poll(() => page.locator(".cm-activeLine").textContent()).toContain("permit: { view: [label] }");
    expect(rules()).toBe(readFileSync(museumFile, "utf8"));
  });

  it("says who gains and loses before it saves, and keeps every remark", async () => {
    const page = await enter("#/rules");
    await rewrite(page, "status = 'on_display'", "status <> 'withdrawn'");
    await text(page, ".file").toBe("museum.portier.yaml not saved");
    await button(page, "Save …").click();
    await text(page, ".differences").toMatch(
      /A visitor, .*gains list, view accession, title, label, material, made_in on 162 of 400 objects/,
    );
    expect(rules()).toContain("where: status = 'on_display'");
    await page.getByRole("checkbox", { name: "show changes only" }).click();
    await text(page, ".cm-deletedChunk").toContain("where: status = 'on_display'");
    await expect
      .poll(() => page.locator(".cm-changedLine").allTextContents())
      .toEqual(["        where: status <> 'withdrawn'"]);
    await page.getByRole("checkbox", { name: "show changes only" }).click();
    await button(page, "Save").click();
    await text(page).toContain("Saved.");
    await text(page, ".file").toBe("museum.portier.yaml");
    expect(rules()).toBe(readFileSync(museumFile, "utf8").replace("status = 'on_display'", "status <> 'withdrawn'"));
    await text(page, ".side").toContain("Nobody gains or loses access.");
    // The table that the cursor is in, as one sees it under what is written.
    await side(page, "Data");
    await text(page, ".side").toMatch(
      /The table that the cursor is in: objects\.A visitor \(no role\): 348 of 400 exist/,
    );
  });

  it("copies a rule and a role's part, to be changed in one thing", async () => {
    const page = await enter("#/rules");
    await side(page, "Copy");
    await page.getByRole("combobox", { name: "Copy the rule" }).fill("treasurer-plans");
    await page.getByRole("option", { name: "plan/treasurer-plans" }).click();
    await page.getByRole("textbox", { name: "The copy's name" }).fill("heads-plan");
    await page.getByRole("combobox", { name: "For" }).click();
    await page.getByRole("option", { name: "head", exact: true }).click();
    await page.keyboard.press("Escape");
    await button(page, "Copy it").click();
    await text(page, ".differences").toMatch(/Bram Solheim.*gains edit, protect q1, q2, q3, q4 on 7 of 8 plan/);
    await expect.poll(() => page.locator(".cm-content").textContent()).toMatch(/heads-plan:[ {]*to: head/);
    await button(page, "Revert").click();
    await go(page, "#/roles");
    await page.getByRole("button", { name: /^conservator/ }).click();
    await page.getByRole("textbox", { name: "New role with the same permissions" }).fill("restorer");
    await button(page, "Copy the part").click();
    await expect.poll(() => page.url()).toContain("#/rules");
    await expect.poll(() => page.locator(".cm-content").textContent()).toContain("restorer: ");
    await button(page, "Save …").click();
    await text(page, ".side").toContain("Nobody gains or loses access.");
    await button(page, "Save").click();
    await expect.poll(() => rules()).toMatch(/^ {2}restorer: \{ assignableBy: \[director\] \}$/m);
    expect(rules().match(/#.*/g)).toEqual(readFileSync(museumFile, "utf8").match(/#.*/g));
  });

  it("keeps what is on the screen as an expectation, runs it, and sees it fail after a change", async () => {
    const page = await enter("#/view-as/loans?as=s-010");
    await button(page, "Add the counts as an expectation").click();
    await text(page).toContain("Added to museum.expect.yaml: s-010 on loans.");
    await page.getByRole("gridcell").first().click();
    await button(page, "Add as expectation").click();
    await text(page).toMatch(/Added to museum.expect.yaml: s-010 on loans\/l-/);
    const kept = readFileSync(join(folder, "museum.expect.yaml"), "utf8");
    const before = readFileSync(join(dirname(museumFile), "museum.expect.yaml"), "utf8");
    expect(kept.startsWith(before.trimEnd())).toBe(true);
    await page.getByRole("link", { name: "Expectations" }).click();
    await text(page).toMatch(/[\d,]+ passed, 0 failed/);
    await text(page).toMatch(/\d+ of 65 rules are covered in every part/);
    await go(page, "#/rules");
    await rewrite(page, "status = 'on_display'", "status <> 'withdrawn'");
    await page.getByRole("link", { name: "Expectations" }).click();
    await text(page).toMatch(/[1-9][\d,]* failed.*museum\.expect\.yaml:\d+/);
  });

  it("draws roles, says who is in them through what, and who is above whom", async () => {
    const page = await enter("#/roles");
    await expect
      .poll(() => page.getByRole("img", { name: "Roles and groups, and what comes with each" }).count())
      .toBe(1);
    await page.getByRole("button", { name: /^ships-line/ }).click();
    await text(page, ".membership").toMatch(/Bram Solheim and everybody below\..*Odalys Quint/);
    await text(page, ".managers").toMatch(/Ines Okoro.*Bram Solheim.*Odalys Quint.*Noor Castellan/);
    await page.locator(".managers").getByRole("link", { name: "Noor Castellan" }).click();
    await expect.poll(() => page.url()).toContain("as=s-007");
  });

  it("does not write over what somebody else has changed", async () => {
    const page = await enter("#/rules");
    await rewrite(page, "status = 'on_display'", "status <> 'withdrawn'");
    writeFileSync(file(), `${rules()}# theirs\n`);
    await button(page, "Save …").click();
    await button(page, "Save").click();
    await text(page, ".shell").toContain("museum.portier.yaml was changed by somebody else");
    expect(rules()).toMatch(/status = 'on_display'[\s\S]*# theirs\n$/);
    await button(page, /Reload/).click();
    await text(page, ".file").toBe("museum.portier.yaml");
  });

  it("is for this machine and whoever was told the address", async () => {
    const { origin, pathname, port } = new URL(opened.address);
    const status = (path: string, headers: Record<string, string> = {}, method = "GET", body?: string) =>
      new Promise<number>((resolve, reject) => {
        const call = request({ host: "127.0.0.1", port, path, method, headers }, (answer) => {
          answer.resume();
          resolve(answer.statusCode ?? 0);
        });
        call.on("error", reject);
        call.end(body);
      });
    expect(pathname).toMatch(/^\/[0-9a-f]{32}\/$/);
    expect(await status(pathname)).toBe(200);
    expect(await status(`${pathname}api/project`)).toBe(200);
    for (const path of ["/", "/api/project", `/${"0".repeat(32)}/api/project`, `${pathname}../../package.json`]) {
      expect(await status(path), path).toBe(404);
    }
    for (const path of ["%2e%2e/%2e%2e/etc/passwd", "assets/../../cli/main.js", "api/file"]) {
      expect(await status(pathname + path), path).toBe(404);
    }
    expect(await status(`${pathname}api/project`, { host: `evil.example:${port}` })).toBe(404);
    expect(await status(`${pathname}api/project`, { origin: "http://evil.example" })).toBe(404);
    expect(await status(`${pathname}api/project`, { origin })).toBe(200);
    const put = (body: object) => status(`${pathname}api/file`, {}, "PUT", JSON.stringify(body));
    expect(await put({ name: "../x", text: "", version: "none" })).toBe(409);
    expect(await put({ name: "museum.roles.json", text: "", version: "none" })).toBe(409);
    expect(await put({ name: "museum.portier.yaml", text: "", version: "0" })).toBe(409);
    expect(await put({ name: "museum.portier.yaml" })).toBe(400);
    expect(rules()).toBe(readFileSync(museumFile, "utf8"));
  });

  it("opens rules that are broken, to be mended", async () => {
    writeFileSync(file(), rules().replace("portier: 1", "portier: 2"));
    const page = await enter("#/rules");
    await text(page, ".remarks").toMatch(/error line \d+/);
    await rewrite(page, "portier: 2", "portier: 1");
    await text(page, ".side").toContain("No errors, no warnings.");
    await go(page, "#/view-as/objects");
    await text(page, ".counts").toContain("A visitor (no role): 186 of 400 exist");
  });

  it.each(["light", "dark"] as const)(
    "is legible and named throughout, by axe-core, in %s colours",
    async (colorScheme) => {
      const page = await enter("#/view-as/objects?as=s-003&compare=s-005");
      await page.emulateMedia({ colorScheme });
      await expect.poll(() => page.getByRole("gridcell").count()).toBeGreaterThan(100);
      await page.getByRole("gridcell", { name: "hidden" }).first().click();
      await expect.poll(() => page.getByRole("complementary").count()).toBe(1);
      await page.waitForTimeout(300);
      expect(await barriers(page)).toEqual([]);
      for (const view of ["matrix", "rules", "roles", "expectations"]) {
        await go(page, `#/${view}`);
        await page.waitForTimeout(1_000);
        expect(await barriers(page), view).toEqual([]);
      }
    },
  );

  it.each(["see/objects?as=s-003", "matrix", "rules", "roles", "expectations"])("fits a phone: %s", async (path) => {
    const page = await enter(`#/${path}`, 390);
    await page.waitForTimeout(500);
    expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(390);
  });

  it("scrolls through 100,000 records, of which it draws those in view", async () => {
    const count = 100_000;
    const [, first] = records("objects");
    const many = Array.from({ length: count }, (_, index) => ({ ...first, accession: `N-${index}`, keeper: null }));
    writeFileSync(join(folder, "data/objects.json"), JSON.stringify(many));
    for (const name of ["loans", "treatments", "exhibits"]) writeFileSync(join(folder, `data/${name}.json`), "[]");
    const page = await enter("#/view-as/objects?as=s-003&compare=s-005");
    await text(page, ".counts").toMatch(/100,000 of 100,000 exist.*100,000 of 100,000 exist/);
    const grid = page.getByRole("grid", { name: "Objects" });
    await grid.evaluate((element) => element.scrollTo(0, element.scrollHeight));
    await expect.poll(() => page.getByRole("gridcell", { name: `N-${count - 1}` }).count()).toBe(2);
    expect(await page.getByRole("row").count()).toBeLessThan(80);
    await page.getByRole("textbox", { name: "Search in Objects" }).fill("N-9999");
    await expect.poll(() => grid.getAttribute("aria-rowcount")).toBe(String(2 * 11 + 1));
  });
});

const postgres = engines["PostgreSQL"];

describe.skipIf(chromiumPath === undefined || postgres === undefined)("the inspector on PostgreSQL", () => {
  it("shows what is in the database", async () => {
    const engine = await (postgres as () => Promise<Engine>)();
    await createTables(engine, portier.schema);
    const names = [...portier.schema.tables.keys(), "portier_assignments", "portier_delegations"];
    await storeAll(engine, portier.schema, Object.fromEntries(names.map((name) => [name, records(name)])));
    const folder = museumFolder();
    const opened = await open(join(folder, "museum.portier.yaml"), "--data", String(engine.address));
    const browser = await launch();
    const page = await browser.newPage();
    await page.goto(`${opened.address}#/view-as/objects?as=s-005&compare=s-009`);
    await expect
      .poll(() => page.locator(".counts").textContent())
      .toMatch(/Kofi Lindqvist .*400 of 400 exist.*Liv Arden .*: 0 of 400 exist/);
    await browser.close();
    opened.process.kill();
    await engine.close();
    rmSync(folder, { recursive: true });
  });
});
