// What the commands of package.json need before they can do their work. Uses nothing but Node, as nothing is installed yet.
import { spawnSync } from "node:child_process";
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";

export const root = fileURLToPath(new URL("..", import.meta.url));

/** Runs a command in the project's folder with its output shown; ends this process where it fails. */
export function run(command, args, options = {}) {
  const result = spawnSync(command, args, { cwd: root, stdio: "inherit", ...options });
  if (result.status !== 0) {
    console.error(`\n${[command, ...args].join(" ")} did not work${result.error ? `: ${result.error.message}` : ""}`);
    process.exit(result.status || 2);
  }
}

/** Installs the packages of package-lock.json, unless they are there already. */
export function installPackages() {
  const [major] = process.versions.node.split(".");
  if (Number(major) < 20) {
    console.error(`Portier needs Node 20 or newer; this is Node ${process.versions.node}.`);
    process.exit(2);
  }
  const installed = `${root}node_modules/.package-lock.json`;
  const isCurrent =
    existsSync(installed) && statSync(installed).mtimeMs >= statSync(`${root}package-lock.json`).mtimeMs;
  if (isCurrent) return;
  console.error("Installing packages (once) ...");
  run("npm", ["ci", "--no-audit", "--no-fund"], { stdio: ["ignore", "ignore", "inherit"] });
}

const buildSources = ["package-lock.json", "package.json", "tsconfig.json", "tsconfig.build.json", "tsconfig.web.json"];
const buildFolders = ["schema", "src", "inspector", "examples/museum", "examples/museum-app"];
const apart = new Set(["node_modules", "dist", "dist-server", "database", "test"]);

/** Builds the library with the inspector, and the examples, unless it is what was built last. */
export function buildAll() {
  const note = `${root}node_modules/.built`;
  const files = [...buildSources, ...buildFolders.flatMap(filesIn)];
  const state = files.map((path) => `${path} ${statSync(`${root}${path}`).mtimeMs}`).join("\n");
  const isBuilt = existsSync(`${root}dist/inspector`) && existsSync(`${root}examples/museum-app/dist-server`);
  if (isBuilt && existsSync(note) && readFileSync(note, "utf8") === state) return;
  run("npm", ["run", "--silent", "build"]);
  run("npm", ["run", "--silent", "build:app"]);
  writeFileSync(note, state);
}

function filesIn(folder) {
  return readdirSync(`${root}${folder}`, { withFileTypes: true }).flatMap((entry) => {
    if (apart.has(entry.name)) return [];
    const path = `${folder}/${entry.name}`;
    return entry.isDirectory() ? filesIn(path) : [path];
  });
}

/** The path of a Chromium on this machine, or undefined. PORTIER_CHROMIUM names one that is elsewhere. */
export function findChromium() {
  const named = process.env.PORTIER_CHROMIUM;
  const places = ["/usr/bin/chromium", "/usr/bin/chromium-browser", "/snap/bin/chromium", "/usr/bin/google-chrome"];
  return [named, ...places].find((path) => path && existsSync(path));
}

/** Installs Debian's chromium where this process may; says nothing where it may not. */
export function installChromium() {
  const canInstall = process.getuid?.() === 0 && spawnSync("apt-get", ["--version"]).status === 0;
  if (!canInstall) return undefined;
  console.error("Installing chromium (once) ...");
  const quiet = { stdio: "ignore", env: { ...process.env, DEBIAN_FRONTEND: "noninteractive" } };
  spawnSync("apt-get", ["update"], quiet);
  spawnSync("apt-get", ["install", "-y", "--no-install-recommends", "chromium"], quiet);
  return findChromium();
}
