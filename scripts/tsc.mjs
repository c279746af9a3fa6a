// The compiler, for one project after another: `node scripts/tsc.mjs PROJECT...`. It is TypeScript 7, which is several times as
// fast; what reads programs through TypeScript's interface for them (the import check, the API report) has 6, the last with one.
import { spawnSync } from "node:child_process";
import { createRequire } from "node:module";

let manifest;
try {
  manifest = createRequire(import.meta.url).resolve("typescript-7/package.json");
} catch {
  // The demo installs no more than it shows.
  console.error("The compiler is not installed: npm ci");
  process.exit(2);
}
const compiler = new URL("bin/tsc", `file://${manifest}`);
for (const project of process.argv.slice(2)) {
  const { status } = spawnSync(process.execPath, [compiler.pathname, "-p", project], { stdio: "inherit" });
  if (status !== 0) process.exit(status ?? 2);
}
