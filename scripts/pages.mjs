// The pages of the demo, as they were built: one that leads to the inspector (on a copy of the museum, so that its rules can
// be changed without a trace), to the museum's application, and to the plan in it. PORT is where the first one listens
// (default 4173); the application listens on the next.
import { spawn } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, rmSync } from "node:fs";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { root } from "./prepare.mjs";

const port = Number(process.env.PORT ?? 4173);
const folder = mkdtempSync(join(tmpdir(), "museum-"));
cpSync(`${root}examples/museum`, folder, { recursive: true });

const children = [];
const end = () => {
  for (const child of children) child.kill();
  rmSync(folder, { recursive: true, force: true });
};
process.on("exit", end);
for (const signal of ["SIGINT", "SIGTERM"]) process.on(signal, () => process.exit(0));

const rules = join(folder, "museum.portier.yaml");
const [inspector, app] = await Promise.all([
  started(["dist/cli/main.js", "inspect", rules, "--no-browser"]),
  started(["examples/museum-app/dist-server/server/main.js"], { PORT: String(port + 1) }),
]);
const page = readFileSync(new URL("pages.html", import.meta.url), "utf8")
  .replaceAll("{{inspector}}", inspector)
  .replaceAll("{{app}}", app);
const server = createServer((_request, response) => {
  response.writeHead(200, { "content-type": "text/html; charset=utf-8", "cache-control": "no-store" });
  response.end(page);
});
server.on("error", ({ message }) => {
  console.error(`${message}: PORT names another port`);
  process.exit(2);
});
server.listen(port, "127.0.0.1", () => {
  console.log(`\nInspector, application and plan: http://127.0.0.1:${port}/   (Ctrl-C ends)`);
});

/** Starts a program that says its address; gives the address. */
function started(args, env = {}) {
  const child = spawn("node", args, { cwd: root, env: { ...process.env, ...env }, stdio: ["ignore", "pipe", "pipe"] });
  children.push(child);
  return new Promise((resolve) => {
    let said = "";
    const hear = (part) => {
      said += part;
      const [address] = /http:\S+/.exec(said) ?? [];
      if (address !== undefined) resolve(address);
    };
    child.stdout.on("data", hear);
    child.stderr.on("data", hear);
    child.on("exit", (code) => {
      console.error(said);
      process.exit(code ?? 2);
    });
  });
}
