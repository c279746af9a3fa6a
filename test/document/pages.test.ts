import { execFileSync, spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { basename, dirname, join, resolve } from "node:path";
import { afterAll, beforeAll, expect, it } from "vitest";

// Pages that show files, commands and what those print are run as they are written, with the package as it is published. The
// packages that it needs itself are found above the folder.

const pages = ["tutorial.md", ...readdirSync("docs/guides").map((name) => `guides/${name}`)];
const folder = mkdtempSync(resolve("node_modules/.pages-"));
const home = join(folder, "node_modules/portier");

/** Files that a page names just before their text, and commands with what they print, in their order. */
type Step =
  | { readonly kind: "file"; readonly name: string; readonly text: string }
  | { readonly kind: "command"; readonly line: string; readonly out: string };

function stepsOf(page: string): Step[] {
  const blocks = [...page.matchAll(/(?:`([\w./]+)`[^`\n]*:\n\n)?```(\w+)\n([\s\S]*?)```/g)];
  return blocks.flatMap(([, name = "", language = "", text = ""]): Step[] => {
    if (language === "sh") return [{ kind: "command", line: text.trim(), out: "" }];
    if (language !== "console") return [{ kind: "file", name, text }];
    return text.split(/^\$ /m).flatMap((part) => {
      const [line = "", ...out] = part.split("\n");
      return line === "" ? [] : [{ kind: "command", line, out: out.join("\n") }];
    });
  });
}

beforeAll(() => {
  const words = ["pack", "--json", "--silent", "--ignore-scripts", "--pack-destination", folder];
  const [packed] = JSON.parse(execFileSync("npm", words, { encoding: "utf8" })) as [{ filename: string }];
  mkdirSync(home, { recursive: true });
  execFileSync("tar", ["-xzf", join(folder, packed.filename), "--strip-components=1", "-C", home]);
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

it.each(pages)("%s does what it says, with nothing but the package", (name) => {
  const own = join(folder, basename(name, ".md"));
  let commands = 0;
  for (const step of stepsOf(readFileSync(`docs/${name}`, "utf8"))) {
    if (step.kind === "file") {
      expect(step.name, step.text).not.toBe("");
      mkdirSync(dirname(join(own, step.name)), { recursive: true });
      writeFileSync(join(own, step.name), step.text);
      continue;
    }
    if (step.line.startsWith("npm ")) continue;
    const line = step.line.replace(/^npx portier /, `node ${home}/dist/cli/main.js `);
    const { stdout, stderr } = spawnSync("sh", ["-c", line], { cwd: own, encoding: "utf8", env: plain });
    commands++;
    if (step.line.startsWith("sed ")) expect(stderr).toBe("");
    else if (step.out.endsWith("...\n")) expect(stdout.startsWith(step.out.slice(0, -4)), stdout).toBe(true);
    else expect(stdout.trimEnd(), stderr).toBe(step.out.trimEnd());
  }
  expect(commands).toBeGreaterThanOrEqual(2);
});

/** As in a pipe: of a usual width, without colors. */
const plain = { ...process.env, COLUMNS: "120", NO_COLOR: "1" };
