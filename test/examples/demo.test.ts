import { spawn } from "node:child_process";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { barriers, chromiumPath, launch } from "../support/browser.js";
import { freePort } from "../support/ports.js";

describe.skipIf(chromiumPath === undefined)("the page of the demo", () => {
  let address = "";
  let stop = () => {};
  beforeAll(async () => {
    const env = { ...process.env, PORT: String(await freePort()) };
    const child = spawn("node", ["scripts/pages.mjs"], { env });
    stop = () => child.kill();
    address = await new Promise((resolve, reject) => {
      child.stdout.on("data", (part) => resolve(/http:\S+/.exec(String(part))?.[0] ?? ""));
      child.on("exit", () => reject(new Error("the pages did not start")));
    });
  });
  afterAll(() => stop());

  it("leads to the inspector, the application and the plan", async () => {
    const browser = await launch();
    const page = await browser.newPage();
    await page.goto(address);
    expect(await barriers(page)).toEqual([]);
    const lead = async (name: string) => {
      await page.goto(address);
      await page.getByRole("link", { name, exact: true }).click();
    };
    await lead("a keeper beside the registrar");
    await expect.poll(() => page.locator(".counts").textContent()).toMatch(/Odalys Quint.*Kofi Lindqvist/);
    await lead("The museum’s application");
    await expect.poll(() => page.getByTestId("who").textContent()).toBe("Visitor");
    await lead("sign in");
    await page.getByRole("button", { name: "Sign in as Saoirse Dahl" }).click();
    // Whoever goes on before they are signed in goes on as a visitor.
    await expect.poll(() => page.getByTestId("who").textContent()).toContain("Saoirse Dahl");
    await lead("The plan");
    await expect.poll(() => page.getByRole("grid", { name: "The plan" }).count()).toBe(1);
    await browser.close();
  });
});
