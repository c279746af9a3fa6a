import { readFileSync } from "node:fs";
import type { Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, describe, expect, it } from "vitest";
import { barriers, chromiumPath } from "../../../test/support/browser.js";
import { as, records } from "../../../test/support/museum.js";
import { type App, appDatabases, openApp, pagesOn } from "./app.js";

describe.skipIf(chromiumPath === undefined).each(appDatabases)("the museum's application on %s", (...database) => {
  let app: App;
  const onEmbedded = pagesOn(database);
  beforeAll(async () => {
    app = await openApp(database);
  });
  afterAll(() => app?.close());
  afterEach(() => app.leave());

  const enter = (who?: string, width?: number) => app.enter(who, width);
  const go = (page: Page, ...parts: string[]) => app.go(page, ...parts);
  const menu = async (page: Page) =>
    (await page.getByRole("navigation", { name: "Pages" }).getByRole("link").allTextContents()).join(" ");
  const field = (page: Page, label: string) => page.getByRole("textbox", { name: label });
  const picker = (page: Page, label: string) => page.getByRole("combobox", { name: label });
  const choose = async (page: Page, label: string, option: string) => {
    await picker(page, label).click();
    await page.getByRole("option", { name: option, exact: true }).click();
  };
  const save = (page: Page) => page.getByRole("button", { name: "Save" }).click();
  const said = (page: Page, text: string | RegExp) =>
    expect.poll(() => page.locator("main").textContent()).toMatch(text);

  const counted = (page: Page, count: number) =>
    expect.poll(() => page.getByRole("status").allTextContents()).toContain(`${count} record${count === 1 ? "" : "s"}`);

  onEmbedded("shows a visitor what is on display, and nothing else of the museum", async () => {
    const page = await enter();
    await expect.poll(() => menu(page)).toBe("Visit");
    const shown = as().maskAll("objects", records("objects")).length;
    await counted(page, shown);
    await go(page, "objects");
    await said(page, /Page not found/);
    expect(await page.content()).not.toContain("Odalys");
  });

  onEmbedded("lets an assistant search, sort and read, and edit nothing but a first label", async () => {
    const page = await enter("Noor Castellan");
    await expect.poll(() => menu(page)).toBe("Visit Objects Captions Museum");
    await go(page, "objects");
    await page.getByRole("textbox", { name: "Search in Objects" }).fill("Bell");
    const found = as("s-007")
      .maskAll("objects", records("objects"))
      .filter((row) => Object.values(row).some((value) => typeof value === "string" && value.includes("Bell")));
    await counted(page, found.length);
    const registered = records("objects").find(
      (row) => row["department"] === "ships" && row["status"] === "registered",
    );
    await go(page, "objects", String(registered?.["accession"]));
    await expect.poll(() => page.getByRole("textbox").count()).toBeGreaterThan(3);
    const open = await page.locator("form input:not([readonly])").count();
    expect(open).toBe(1);
    await field(page, "label").fill("First words.");
    await save(page);
    await expect.poll(() => field(page, "label").inputValue()).toBe("First words.");
  });

  it("lets a keeper hand an object over, to whom the rules let them, and not see it go elsewhere", async () => {
    const page = await enter("Odalys Quint");
    await go(page, "objects", "BM-SH-0001");
    await expect.poll(() => page.getByRole("textbox").count()).toBeGreaterThan(3);
    expect(await page.content()).not.toContain("Insured value");
    await picker(page, "keeper").click();
    const staff = new Map(records("staff").map((row) => [row["id"], row["name"]]));
    const object = records("objects").find((row) => row["accession"] === "BM-SH-0001") ?? {};
    const choices = as("s-003").choices("objects", "keeper", object) ?? [];
    const offered = async () => (await page.getByRole("option").allTextContents()).sort();
    // Names come after keys, where nobody has asked for them yet.
    await expect.poll(offered).toEqual(choices.map((key) => String(staff.get(key))).sort());
    await page.keyboard.press("Escape");
    await choose(page, "keeper", "Celia Marchbank");
    await save(page);
    // It is not hers any more, so the field is read now.
    await expect.poll(() => page.getByText("keeper (read only)").count()).toBe(1);
  });

  it("refuses what a page does not offer, and leaves what is stored", async () => {
    const page = await enter("Odalys Quint");
    const forged = await page.evaluate(async () => {
      const answer = await fetch("/api/records/objects/BM-SH-0002", {
        method: "PATCH",
        headers: { "content-type": "application/json" },
        body: JSON.stringify({ values: { insured_value: "1.00", status: "withdrawn" } }),
      });
      return { status: answer.status, body: await answer.text() };
    });
    expect(forged.status).toBe(403);
    expect(forged.body).not.toContain("objects/");
    const cookie = await page.evaluate(() => document.cookie);
    expect(cookie).toBe("");
    await page.context().addCookies([{ name: "museum", value: "eyJwZXJzb24iOiJzLTAwMSJ9.x", url: app.url }]);
    await page.reload();
    await expect.poll(() => page.getByTestId("who").textContent()).toBe("Visitor");
  });

  it("takes a loan from its requester to the registrar, who does not decide on their own", async () => {
    const keeper = await enter("Wren Takeda");
    await go(keeper, "loans", "new");
    await field(keeper, "id").fill("l-901");
    await choose(
      keeper,
      "object",
      String(records("objects").find((row) => row["status"] === "on_display")?.["accession"]),
    );
    await field(keeper, "borrower").fill("The Harbour House");
    await field(keeper, "starts on").fill("2027-03-01");
    await field(keeper, "ends on").fill("2027-05-01");
    await keeper.getByRole("button", { name: "Create" }).click();
    await expect.poll(() => keeper.url()).toMatch(/#\/loans$/);
    await go(keeper, "loans", "l-901");
    await choose(keeper, "status", "requested");
    await save(keeper);
    await said(keeper, /You may view this, but not change it/);
    const registrar = await enter("Kofi Lindqvist");
    await go(registrar, "loans", "l-901");
    await choose(registrar, "status", "approved");
    await save(registrar);
    await expect.poll(() => picker(registrar, "status").inputValue()).toBe("approved");
  });

  onEmbedded("lets the treasurer plan, and the director correct a total after a question", async () => {
    const treasurer = await enter("Saoirse Dahl");
    await expect.poll(() => menu(treasurer)).toBe("Visit Loans Plan Museum");
    await go(treasurer, "plan", "b-03");
    await field(treasurer, "q2").fill("4321.00");
    await save(treasurer);
    await expect.poll(() => field(treasurer, "q2").inputValue()).toBe("4321.00");
    await expect.poll(() => treasurer.getByText("total (read only)").count()).toBe(1);
    const director = await enter("Ines Okoro");
    await go(director, "plan", "b-03");
    await field(director, "total").fill("1.00");
    await save(director);
    await expect.poll(() => director.getByRole("dialog").textContent()).toContain("Totals are worked out");
    await director.getByRole("button", { name: "Yes, do it" }).click();
    await expect.poll(() => field(director, "total").inputValue()).toBe("1.00");
  });

  onEmbedded("takes objects out as a file, and takes a file in with a result for each line", async () => {
    const page = await enter("Kofi Lindqvist");
    await go(page, "objects");
    const [download] = await Promise.all([
      page.waitForEvent("download"),
      page.getByRole("link", { name: "Export CSV" }).click(),
    ]);
    expect(download.suggestedFilename()).toBe("objects.csv");
    const lines = readFileSync(await download.path(), "utf8")
      .trim()
      .split("\r\n");
    expect(lines.length).toBeGreaterThanOrEqual(401);
    const upload = (text: string) =>
      page
        .getByLabel("A CSV file for objects")
        .setInputFiles({ name: "new.csv", mimeType: "text/csv", buffer: Buffer.from(text) });
    await upload("accession,title,department\nBM-SH-9101,Cleat,ships\nBM-SH-0001,Twice,ships\n");
    const dialog = page.getByRole("dialog");
    await expect.poll(() => dialog.textContent()).toContain("Nothing was imported: 1 of 2 lines were refused.");
    expect(await dialog.getByRole("row").allTextContents()).toEqual([
      "line 2fine",
      expect.stringContaining("line 3accession"),
    ]);
    await page.keyboard.press("Escape");
    await upload("accession,title,department\nBM-SH-9101,Cleat,ships\nBM-SH-9102,Bollard,ships\n");
    await expect.poll(() => dialog.textContent()).toContain("2 records were imported.");
    await page.keyboard.press("Escape");
    await page.getByRole("textbox", { name: "Search in Objects" }).fill("Bollard");
    await counted(page, 1);
    // A keeper takes nothing out and in.
    const keeper = await enter("Odalys Quint");
    await go(keeper, "objects");
    await counted(keeper, 402);
    expect(await keeper.getByText("CSV").count()).toBe(0);
  });

  it("changes many at once, where that is permitted, after what is to be confirmed", async () => {
    const page = await enter("Kofi Lindqvist");
    await go(page, "objects");
    await said(page, /\d records/);
    await page.getByRole("textbox", { name: "Search in Objects" }).fill("Octant");
    const boxes = page.getByRole("checkbox");
    await expect.poll(() => boxes.count()).toBeGreaterThan(2);
    const onLoan = records("objects").find(
      (row) => row["status"] === "on_loan" && String(row["title"]).includes("Octant"),
    );
    await page.getByRole("textbox", { name: "Search in Objects" }).fill(String(onLoan?.["accession"]));
    await counted(page, 1);
    await boxes.first().check();
    await choose(page, "Field", "Shelf");
    await field(page, "Value").fill("Z9-99");
    await page.getByRole("button", { name: "Change all" }).click();
    await expect
      .poll(() => page.getByRole("alert").textContent())
      .toContain("The object is on loan. Is it really back?");
    await page.getByRole("button", { name: "Yes, change all" }).click();
    // It is done when nothing is chosen any more.
    await expect.poll(() => page.getByRole("button", { name: "Yes, change all" }).count()).toBe(0);
    await go(page, "objects", String(onLoan?.["accession"]));
    await expect.poll(() => field(page, "shelf").inputValue()).toBe("Z9-99");
  });

  onEmbedded("lets the director alone withdraw an object", async () => {
    const registrar = await enter("Kofi Lindqvist");
    await go(registrar, "objects", "BM-IN-0009");
    await expect.poll(() => registrar.getByRole("textbox").count()).toBeGreaterThan(3);
    await picker(registrar, "status").click();
    expect(await registrar.getByRole("option").allTextContents()).not.toContain("withdrawn");
    const director = await enter("Ines Okoro");
    await go(director, "objects", "BM-IN-0009");
    await choose(director, "status", "withdrawn");
    await save(director);
    await expect.poll(() => picker(director, "status").inputValue()).toBe("withdrawn");
  });

  onEmbedded("shows in the header for whom somebody acts, and lets them do that person's work", async () => {
    const page = await enter();
    await go(page, "sign-in");
    await page.getByRole("button", { name: "for Bram Solheim" }).click();
    await expect.poll(() => page.getByTestId("who").textContent()).toBe("Bram Solheim – Odalys Quint acts for them");
    await expect.poll(() => menu(page)).toContain("Plan");
  });

  it("assigns a role after saying what comes of it, and another window knows at once", async () => {
    const volunteer = await enter("Mateo Brandt");
    await expect.poll(() => menu(volunteer)).toBe("Visit Museum");
    const director = await enter("Ines Okoro");
    await choose(director, "Person", "Mateo Brandt");
    await choose(director, "Role", "registrar");
    await director.getByRole("button", { name: "What would they gain?" }).click();
    await expect
      .poll(() => director.getByTestId("asked").textContent())
      .toMatch(/sensitive fields of "objects": shelf, insured_value[\s\S]*on \d+ of \d+ objects/);
    await director.getByRole("button", { name: "Assign", exact: true }).click();
    await expect.poll(() => menu(volunteer), { timeout: 5_000 }).toContain("Objects");
    await director.getByRole("button", { name: "Revoke registrar from Mateo Brandt" }).click();
    await director.getByRole("button", { name: "Revoke", exact: true }).click();
    await expect.poll(() => menu(volunteer), { timeout: 5_000 }).toBe("Visit Museum");
  });

  onEmbedded("assigns a role of one exhibition, until a day, and says of which it was", async () => {
    const director = await enter("Ines Okoro");
    await go(director, "administration");
    await choose(director, "Person", "Wren Takeda");
    await choose(director, "Role", "editor");
    const title = String(records("exhibitions").find(({ id }) => id === "e-3")?.["title"]);
    await choose(director, "Of", title);
    await director.getByLabel("Until").fill("2027-06-30");
    await director.getByLabel("Reason").fill("Helps with the captions.");
    await director.getByRole("button", { name: "What would they gain?" }).click();
    await expect
      .poll(() => director.getByTestId("asked").textContent())
      .toMatch(/Wren Takeda is assigned editor of [\s\S]*edit caption, sequence on \d+ of/);
    await director.getByRole("button", { name: "Assign", exact: true }).click();
    const given = director.getByRole("table", { name: "Assigned roles" });
    await expect
      .poll(() => given.textContent())
      .toMatch(new RegExp(`Wren Takedaeditor of ${title}until 2027-06-(?:29|30)Helps with`));
    await picker(director, "Change editor: Wren Takeda").click();
    await director.getByRole("option", { name: "lead", exact: true }).click();
    await expect
      .poll(() => director.getByTestId("asked").textContent())
      .toMatch(/Wren Takeda is assigned lead of [\s\S]*instead of editor[\s\S]*edit title/);
    await director.getByRole("button", { name: "Change", exact: true }).click();
    await expect
      .poll(() => given.textContent())
      .toMatch(new RegExp(`Wren Takedalead of ${title}until 2027-06-(?:29|30)`));
    await director.getByRole("button", { name: "Revoke lead from Wren Takeda" }).click();
    await expect.poll(() => director.getByTestId("asked").textContent()).toContain(`loses lead of ${title}`);
    await director.getByRole("button", { name: "Revoke", exact: true }).click();
    await expect.poll(() => given.textContent()).not.toContain("Wren Takeda");
  });

  for (const colorScheme of ["light", "dark"] as const) {
    onEmbedded(`is legible and named throughout, by axe-core, in ${colorScheme} colours`, async () => {
      const page = await enter("Ines Okoro");
      await page.emulateMedia({ colorScheme });
      for (const parts of [
        ["objects"],
        ["objects", "BM-SH-0001"],
        ["loans", "new"],
        ["plan"],
        ["administration"],
        ["visit"],
        ["sign-in"],
        ["nowhere"],
      ]) {
        await go(page, ...parts);
        await expect
          .poll(() => page.locator("main").getByRole("heading").or(page.getByRole("alert")).count())
          .toBeGreaterThan(0);
        await page.waitForTimeout(300);
        expect(await barriers(page), parts.join("/")).toEqual([]);
      }
    });
  }

  onEmbedded("fits a phone, and is used by keyboard", async () => {
    const page = await enter("Odalys Quint", 390);
    await said(page, /records/);
    expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(390);
    await page.keyboard.press("Tab");
    const focused = await page.evaluate(() => {
      const style = getComputedStyle(document.activeElement as Element);
      return [document.activeElement?.textContent, style.outlineStyle !== "none" || style.boxShadow !== "none"];
    });
    expect(focused).toEqual(["Visit", true]);
  });
});
