// Looks at the built pages in Chromium: every page is there, nothing stands out at the side of a phone, and axe-core finds
// nothing against its rules, light and dark. PORTIER_CHROMIUM names the browser; without one it says that it looked at nothing.
import { createReadStream, existsSync, readdirSync, readFileSync } from "node:fs";
import { createServer } from "node:http";
import { createRequire } from "node:module";
import { extname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { chromium } from "playwright-core";
import { findChromium } from "./prepare.mjs";

const dist = fileURLToPath(new URL("../site/dist/", import.meta.url));
const executablePath = findChromium();
if (executablePath === undefined) {
  console.log("The pages were not looked at: there is no Chromium (PORTIER_CHROMIUM=/path/to/chromium).");
  process.exit(process.env.PORTIER_REQUIRE?.includes("chromium") ? 1 : 0);
}

const types = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css", ".png": "image/png" };
const server = createServer((request, response) => {
  const path = new URL(request.url ?? "/", "http://site").pathname;
  const file = [path, `${path}.html`, `${path}index.html`]
    .map((name) => join(dist, name))
    .find((name) => extname(name) !== "" && existsSync(name));
  if (file === undefined) response.writeHead(404).end();
  else createReadStream(file).pipe(response.writeHead(200, { "content-type": types[extname(file)] ?? "" }));
});
await new Promise((resolve) => server.listen(0, "127.0.0.1", resolve));
const home = `http://127.0.0.1:${server.address().port}`;

const pages = readdirSync(dist, { recursive: true, encoding: "utf8" })
  .filter((name) => name.endsWith(".html") && name !== "404.html")
  .map((name) => `/${name.replace(/(?:^|(?<=\/))index\.html$|\.html$/, "")}`);
/** What is looked at closely, one of each kind; of all others that they are there, on a phone. */
const closely = ["/", "/playground", "/tutorial", "/model", "/needs", "/reference/document", "/lint/"];
const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");
const found = [];
const browser = await chromium.launch({ executablePath, args: ["--no-sandbox"] });
for (const colorScheme of ["light", "dark"]) {
  for (const viewport of [
    { width: 1280, height: 800 },
    { width: 390, height: 800 },
  ]) {
    const isPhone = viewport.width < 1000;
    const page = await browser.newPage({ viewport, colorScheme, reducedMotion: "reduce" });
    page.on("pageerror", ({ message }) => found.push(`${page.url()}: ${message}`));
    page.on("response", (response) => {
      if (response.status() >= 400) found.push(`${response.url()}: ${response.status()}`);
    });
    for (const path of isPhone && colorScheme === "light" ? pages : closely) {
      const where = `${path} (${colorScheme}, ${viewport.width})`;
      await page.goto(home + path, { waitUntil: "load" });
      const width = await page.evaluate(() => document.documentElement.scrollWidth);
      if (width > viewport.width) found.push(`${where} is ${width} wide`);
      if (!closely.includes(path)) continue;
      await page.evaluate(axe);
      const { violations } = await page.evaluate(() =>
        globalThis.axe.run({ runOnly: ["wcag2a", "wcag2aa", "wcag21aa"] }),
      );
      for (const { id, help, nodes } of violations) found.push(`${where}: ${id}: ${help}: ${nodes[0]?.html}`);
    }
    await page.close();
  }
}
const search = await browser.newPage({ viewport: { width: 1280, height: 800 } });
await search.goto(home);
const box = search.getByRole("searchbox");
// Until the page listens, nothing comes of a key.
for (let tries = 0; tries < 50 && !(await box.isVisible()); tries++) {
  await search.keyboard.press("Control+k");
  await search.waitForTimeout(200);
}
await box.fill("standby");
await search
  .getByRole("option", { name: /standby/i })
  .first()
  .waitFor();

// The playground: somebody else's eyes, why, what a change opens, and the same again from its address.
const played = await browser.newPage({ viewport: { width: 1280, height: 900 } });
played.on("pageerror", ({ message }) => found.push(`/playground: ${message}`));
await played.goto(`${home}/playground`);
const rules = played.getByRole("textbox", { name: "rules" });
const before = await rules.inputValue();
await played.getByRole("combobox", { name: "As" }).selectOption({ label: "Wren Takeda (keeper)" });
await played.getByRole("region", { name: "objects" }).getByRole("button", { name: "does not exist" }).first().click();
await played.getByText("they may only where department = me.department").first().waitFor();
await rules.fill(before.replace("to: keeper", "to: keper"));
await played.getByRole("alert").getByText('Did you mean "keeper"?').waitFor();
await rules.fill(before.replace("= me.department", "= me.department or status = 'registered'"));
await played.getByText("+ Wren Takeda: list, view objects").waitFor();
await played.getByRole("button", { name: "Share by address" }).click();
await played.waitForURL(/#.{100}/);
await played.reload();
await played.getByRole("textbox", { name: "rules" }).waitFor();
if (!(await rules.inputValue()).includes("or status = 'registered'"))
  found.push("/playground: its address lost the rules");
await browser.close();
server.close();
for (const one of found) console.error(one);
console.log(`${pages.length} pages, ${found.length} found`);
process.exitCode = found.length === 0 ? 0 : 1;
