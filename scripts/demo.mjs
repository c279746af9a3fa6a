// The main job on the museum's data: who may do what, what one person sees, and why. Then the pages, until
// Ctrl-C; with --once it ends instead.
import { spawnSync } from "node:child_process";
import { buildForDemo, installForDemo, root } from "./prepare.mjs";

const unknown = process.argv.slice(2).find((word) => word !== "--once");
if (unknown !== undefined) {
  console.error(`demo knows --once, not "${unknown}"`);
  process.exit(2);
}
installForDemo();
const { pages } = await buildForDemo();

const rules = "examples/museum/museum.portier.yaml";
const commands = [
  ["matrix", rules, "--data", "examples/museum/data"],
  ["show", rules, "objects", "--as", "s-003", "--limit", "8"],
  ["explain", rules, "view", "objects", "BM-SH-0001", "insured_value", "--as", "s-003"],
];
for (const args of commands) {
  console.log(`\n$ npx portier ${args.join(" ")}\n`);
  const { status } = spawnSync("node", ["dist/cli/main.js", ...args], { cwd: root, stdio: "inherit" });
  if (status !== 0) process.exit(status ?? 2);
}

await pages;
if (!process.argv.includes("--once")) await import("./pages.mjs");
