// The main job on the museum's data: who may do what, what one person sees, and why. Then the pages: tables through the eyes
// of others, and the museum's own application, until Ctrl-C; with --once it ends instead.
import { spawn, spawnSync } from "node:child_process";
import { buildAll, installPackages, root } from "./prepare.mjs";

const unknown = process.argv.slice(2).find((word) => word !== "--once");
if (unknown !== undefined) {
  console.error(`demo knows --once, not "${unknown}"`);
  process.exit(2);
}
installPackages();
buildAll();

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

if (!process.argv.includes("--once")) {
  const { preview } = await import("vite");
  const eyes = `${root}examples/eyes`;
  const server = await preview({ root: eyes, logLevel: "warn", preview: { host: "127.0.0.1", port: 4173 } });
  console.log(`\nThe same as a page: ${server.resolvedUrls?.local[0]}   (Ctrl-C ends)`);
  const app = spawn("node", ["examples/museum-app/dist-server/server/main.js"], { cwd: root, stdio: "inherit" });
  process.on("exit", () => app.kill());
}
