// What the commands of package.json need before they can do their work. Uses nothing but Node, as nothing is installed yet.
import { spawn, spawnSync } from "node:child_process";
import { existsSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { mkdir, readFile, writeFile } from "node:fs/promises";
import { dirname } from "node:path";
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

const installed = `${root}node_modules/.package-lock.json`;
/** Says that what is installed is for the demo alone. */
const demoAlone = `${root}node_modules/.demo-alone`;

/** Installs the packages of package-lock.json, unless they are there already. */
export function installPackages() {
  if (isInstalled() && !existsSync(demoAlone)) return;
  console.error("Installing all packages into node_modules (once; a minute or two) ...");
  run("npm", ["ci", "--no-audit", "--no-fund", "--loglevel=error"], { stdio: ["ignore", "ignore", "inherit"] });
}

/** Installs what the demo needs: what the library uses, and what its pages are built with. */
export function installForDemo() {
  if (isInstalled()) return;
  console.error("Installing the demo's packages into node_modules (once; half a minute) ...");
  const pages = ["inspector", "examples/museum-app"].flatMap((name) => ["--workspace", name]);
  const few = ["--omit=dev", "--include-workspace-root", ...pages];
  run("npm", ["ci", ...few, "--no-audit", "--no-fund", "--loglevel=error"], { stdio: ["ignore", "ignore", "inherit"] });
  writeFileSync(demoAlone, "npm ci installs the others, too\n");
}

function isInstalled() {
  const [major] = process.versions.node.split(".");
  if (Number(major) < 20) {
    console.error(`Portier needs Node 20 or newer; this is Node ${process.versions.node}.`);
    process.exit(2);
  }
  return existsSync(installed) && statSync(installed).mtimeMs >= statSync(`${root}package-lock.json`).mtimeMs;
}

const buildSources = ["package-lock.json", "package.json", "tsconfig.json", "tsconfig.build.json", "tsconfig.web.json"];
const buildFolders = ["schema", "src", "inspector", "examples/museum", "examples/museum-app"];
const apart = ["node_modules", "dist", "dist-server"];
const apartHere = ["examples/museum/database", "inspector/test", "examples/museum-app/test"];
/** What was built last, from which state of the sources. */
const note = `${root}node_modules/.built`;

/** Builds the library with the inspector, and the examples, unless it is what was built last. */
export function buildAll() {
  const state = stateOfSources();
  if (isBuilt(["all"], state)) return;
  console.error("Building the library, the inspector and the example ...");
  rmSync(note, { force: true });
  run("npm", ["run", "--silent", "build"]);
  run("npm", ["run", "--silent", "build:app"]);
  writeFileSync(note, `all\n${state}`);
}

/**
 * Builds what the demo shows: the library without its declarations, at once, and then the pages; nothing is checked. Gives what
 * ends when the pages are there.
 */
export async function buildForDemo() {
  const state = stateOfSources();
  if (isBuilt(["all", "demo"], state)) return { pages: Promise.resolve() };
  console.error("Building ...");
  rmSync(note, { force: true });
  rmSync(`${root}dist`, { recursive: true, force: true });
  await Promise.all([
    withoutTypes("src", "dist"),
    withoutTypes("examples/museum-app/server", "examples/museum-app/dist-server/server"),
  ]);
  const pages = Promise.all(["inspector", "examples/museum-app"].map(buildPages));
  return { pages: pages.then(() => writeFileSync(note, `demo\n${state}`)) };
}

function isBuilt(kinds, state) {
  if (!existsSync(note) || !existsSync(`${root}dist/cli/main.js`)) return false;
  const [kind, ...rest] = readFileSync(note, "utf8").split("\n");
  return kinds.includes(kind) && rest.join("\n") === state;
}

function stateOfSources() {
  const files = [...buildSources, ...buildFolders.flatMap(filesIn)];
  return files.map((path) => `${path} ${statSync(`${root}${path}`).mtimeMs}`).join("\n");
}

/** Modules of TypeScript as JavaScript: whatever is a type is left out. */
async function withoutTypes(from, to) {
  const { transformWithOxc } = await import("vite");
  const options = { typescript: { onlyRemoveTypeImports: true }, target: "es2023", sourcemap: false };
  await Promise.all(
    filesIn(from).map(async (path) => {
      const { code } = await transformWithOxc(await readFile(`${root}${path}`, "utf8"), path, options);
      const made = `${root}${to}${path.slice(from.length).replace(/\.ts$/, ".js")}`;
      await mkdir(dirname(made), { recursive: true });
      await writeFile(made, code);
    }),
  );
}

function buildPages(folder) {
  const vite = `${root}node_modules/vite/bin/vite.js`;
  const child = spawn(process.execPath, [vite, "build", "--logLevel", "warn"], {
    cwd: `${root}${folder}`,
    stdio: "inherit",
  });
  return new Promise((resolve, reject) => {
    child.on("error", reject);
    child.on("exit", (code) =>
      code === 0 ? resolve() : reject(new Error(`the pages of ${folder} could not be built`)),
    );
  });
}

function filesIn(folder) {
  return readdirSync(`${root}${folder}`, { withFileTypes: true }).flatMap((entry) => {
    const path = `${folder}/${entry.name}`;
    if (apart.includes(entry.name) || apartHere.includes(path)) return [];
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
  console.error("Installing chromium on this machine, by apt-get (once) ...");
  const quiet = { stdio: "ignore", env: { ...process.env, DEBIAN_FRONTEND: "noninteractive" } };
  spawnSync("apt-get", ["update"], quiet);
  spawnSync("apt-get", ["install", "-y", "--no-install-recommends", "chromium"], quiet);
  return findChromium();
}
