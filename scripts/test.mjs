// Runs all tests, after seeing to what they need. Arguments go on to Vitest. With PORTIER_REQUIRE=chromium a missing
// browser is a failure, not a remark.
import { spawnSync } from "node:child_process";
import { buildAll, findChromium, installChromium, installPackages, root } from "./prepare.mjs";

installPackages();
const chromium = findChromium() ?? installChromium();
if (chromium === undefined && process.env.PORTIER_REQUIRE?.includes("chromium")) {
  console.error("Chromium is required here, but there is none and it cannot be installed.");
  process.exit(2);
}
buildAll();

const env = chromium === undefined ? process.env : { ...process.env, PORTIER_CHROMIUM: chromium };
const { status } = spawnSync("npx", ["vitest", "run", ...process.argv.slice(2)], { cwd: root, stdio: "inherit", env });
if (chromium === undefined) {
  console.log(`
Skipped: the tests of the page in a browser (test/examples). They need Chromium:
  on Debian or Ubuntu   sudo apt-get install chromium
  elsewhere             PORTIER_CHROMIUM=/path/to/chromium npm test`);
}
process.exit(status ?? 2);
