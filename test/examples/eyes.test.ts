import { fileURLToPath } from "node:url";
import type { Browser, Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { chromiumPath, launch, serve } from "../support/browser.js";
import { as, records } from "../support/museum.js";

const built = fileURLToPath(new URL("../../examples/eyes/dist", import.meta.url));

describe.skipIf(chromiumPath === undefined)("the page that shows tables through the eyes of others", () => {
  let browser: Browser;
  let site: Awaited<ReturnType<typeof serve>>;
  let page: Page;
  const complaints: string[] = [];

  beforeAll(async () => {
    [browser, site] = await Promise.all([launch(), serve(built)]);
  });
  afterAll(async () => {
    await browser?.close();
    site?.close();
  });
  beforeEach(async () => {
    page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.on("console", (message) => message.type() === "error" && complaints.push(message.text()));
    page.on("pageerror", (error) => complaints.push(error.message));
  });
  afterEach(async () => {
    await page.close();
    // A page under a strict content policy says so here when anything inside evaluates text as code.
    expect(complaints.splice(0)).toEqual([]);
  });

  const open = async (hash: string) => {
    await page.goto(`${site.url}#${hash}`);
    await page.waitForSelector("h1");
  };
  const cell = (row: number, field: string) =>
    page.locator("tbody tr").nth(row).locator("[role=gridcell]").nth(fields.indexOf(field));
  const fields = Object.keys(records("objects")[0] ?? {});

  it("chooses a person, and keeps what is hidden from them out of the page", async () => {
    await open("table=objects");
    await page.getByLabel("See as").selectOption({ label: "Kofi Lindqvist, s-005" });
    expect(await cell(0, "insured_value").textContent()).toBe("✎ 12500.00");
    await page.getByLabel("See as").selectOption({ label: "Odalys Quint, s-003" });
    await expect
      .poll(() => page.getByRole("status").textContent())
      .toContain("Odalys Quint (assistant, editor of e-1, keeper, lead of e-1)");
    expect(await cell(0, "insured_value").textContent()).toBe("hidden");
    expect(await cell(0, "insured_value").getAttribute("class")).toContain("hidden");
    expect(await page.content()).not.toContain("12500.00");
    expect(new URL(page.url()).hash).toContain("as=s-003");
  });

  it("shows of every cell what the session shows, and marks what may be edited", async () => {
    for (const person of ["s-003", "s-007", "s-006"]) {
      await open(`as=${person}&table=objects`);
      const session = as(person);
      const texts = await page
        .locator("tbody tr")
        .evaluateAll((rows) =>
          rows.map((row) => [...row.querySelectorAll("[role=gridcell]")].map((one) => one.textContent)),
        );
      expect(texts).toHaveLength(40);
      for (const [index, row] of records("objects").slice(0, 40).entries()) {
        const seen = { ...session.mask("objects", row, "list"), ...session.mask("objects", row, "view") };
        const expected = fields.map((field) => {
          const { permitted, confirm } = session.decide("edit", "objects", row, field);
          const mark = permitted ? (confirm === undefined ? "✎ " : "✎? ") : "";
          return mark + (field in seen ? (seen[field] ?? "–") : "hidden");
        });
        expect(texts[index], `${person} ${row["accession"]}`).toEqual(expected);
      }
      await page.goto("about:blank");
    }
  });

  it("says for whom a table is empty", async () => {
    await open("as=visitor&table=loans");
    expect(await page.getByRole("status").textContent()).toBe("A visitor (no role): no record exists");
    expect(await page.getByText("For A visitor, this table is empty.").count()).toBe(1);
  });

  it("puts two persons beside each other, and marks what differs", async () => {
    await open("as=s-003&table=staff");
    await page.getByLabel("beside").selectOption({ label: "Mateo Brandt, s-008" });
    const absent = page.getByText("for Mateo Brandt there is no such record").first();
    await absent.waitFor();
    expect(await page.locator("tbody tr").count()).toBe(48);
    expect(await page.locator("[aria-label='differs: ']").count()).toBeGreaterThan(5);
    await absent.click();
    const why = page.getByRole("complementary", { name: "Why" });
    expect(await why.getByRole("heading", { level: 2 }).textContent()).toBe("May Mateo Brandt view s-001?");
    expect(await why.textContent()).toContain("NO no rule permits it");
  });

  it("explains a cell that is clicked, for each action", async () => {
    await open("as=s-003&table=objects");
    await cell(0, "insured_value").click();
    const why = page.getByRole("complementary", { name: "Why" });
    expect(await why.textContent()).toContain("NO a rule reserves it for others (objects/value-stays-in-the-office)");
    expect(await why.textContent()).toContain(
      "What an object is worth is known to the registrar and the director only.",
    );
    await cell(0, "label").click();
    await why.getByRole("button", { name: "edit" }).click();
    expect(await why.getByRole("heading", { level: 2 }).textContent()).toBe(
      "May Odalys Quint edit label of BM-SH-0001?",
    );
    expect(await why.textContent()).toContain("YES a rule permits it");
    expect(await why.textContent()).toContain("department is 'ships', me.department is 'ships'");
  });

  it("is worked with the keyboard alone", async () => {
    await open("as=s-003&table=objects");
    await page.locator("[role=gridcell][tabindex='0']").focus();
    const at = () => page.evaluate("document.activeElement.textContent");
    await page.keyboard.press("ArrowRight");
    expect(await at()).toBe("Half model of the Halcyon");
    await page.keyboard.press("ArrowDown");
    expect(await at()).toBe("Figurehead of the Third Tern");
    await page.keyboard.press("End");
    expect(await at()).toBe("✎ flaking paint");
    await page.keyboard.press("Enter");
    expect(await at()).toBe("May Odalys Quint view condition_note of BM-SH-0002?");
    await page.keyboard.press("Escape");
    expect(await page.getByRole("complementary").count()).toBe(0);
    expect(await at()).toBe("✎ flaking paint");
    await page.keyboard.press("Home");
    await page.keyboard.press("PageDown");
    expect(await at()).toBe("BM-IN-0012");
    expect(await page.locator("[role=gridcell][tabindex='0']").count()).toBe(1);
  });

  it("shows the ranges of a grid with who keeps them, and cells that ask for a confirmation", async () => {
    await open("as=s-001&table=plan");
    const total = page.locator("tbody tr").nth(1).locator("[role=gridcell]").nth(7);
    expect(await total.textContent()).toBe("✎? 5000.00");
    await page.getByText("7 ranges").click();
    const ranges = await page.locator(".ranges tbody tr").allTextContents();
    expect(ranges).toHaveLength(7);
    expect(ranges[0]).toBe("B2:B is locked for anyone from 2027-04-01 plan/first-quarter-is-overThis quarter is over.");
    await total.click();
    const why = page.getByRole("complementary", { name: "Why" });
    await why.getByRole("button", { name: "edit" }).click();
    expect(await why.textContent()).toContain("to be confirmed first (plan/totals-are-worked-out)");
    expect(await why.textContent()).toContain("asks to confirm edit");
  });

  it("turns pages", async () => {
    await open("as=s-001&table=objects");
    await page.getByRole("button", { name: "Next" }).click();
    expect(await page.getByText("page 2 of 10").count()).toBe(1);
    expect(await cell(0, "accession").textContent()).toContain(String(records("objects")[40]?.["accession"]));
  });
});
