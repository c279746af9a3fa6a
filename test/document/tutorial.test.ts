import { execFileSync, spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { afterAll, expect, it } from "vitest";

// The tutorial is run as it is written, with the package as it is published. Its own packages are found above the folder.

const page = readFileSync("docs/tutorial.md", "utf8");
const folder = mkdtempSync(resolve("node_modules/.tutorial-"));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

/** Files that the page names just before their text, and commands with what they print, in their order. */
type Step =
  | { readonly kind: "file"; readonly name: string; readonly text: string }
  | { readonly kind: "command"; readonly line: string; readonly out: string };

const steps = [...page.matchAll(/(?:`([\w./]+)`[^`\n]*:\n\n)?```(\w+)\n([\s\S]*?)```/g)].flatMap((found): Step[] => {
  const [, name = "", language = "", text = ""] = found;
  if (language === "sh") return [{ kind: "command", line: text.trim(), out: "" }];
  if (language !== "console") return [{ kind: "file", name, text }];
  return text.split(/^\$ /m).flatMap((part) => {
    const [line = "", ...out] = part.split("\n");
    return line === "" ? [] : [{ kind: "command", line, out: out.join("\n") }];
  });
});

it("has a tutorial that does what it says, with nothing but the package", () => {
  const [packed] = JSON.parse(
    execFileSync("npm", ["pack", "--json", "--silent", "--pack-destination", folder], { encoding: "utf8" }),
  ) as [{ filename: string }];
  const home = join(folder, "node_modules/portier");
  mkdirSync(home, { recursive: true });
  execFileSync("tar", ["-xzf", join(folder, packed.filename), "--strip-components=1", "-C", home]);

  let commands = 0;
  for (const step of steps) {
    if (step.kind === "file") {
      expect(step.name, step.text).not.toBe("");
      mkdirSync(dirname(join(folder, step.name)), { recursive: true });
      writeFileSync(join(folder, step.name), step.text);
      continue;
    }
    if (step.line.startsWith("npm ")) continue;
    const line = step.line.replace(/^npx portier /, "node node_modules/portier/dist/cli/main.js ");
    const { stdout, stderr } = spawnSync("sh", ["-c", line], { cwd: folder, encoding: "utf8", env: plain });
    commands++;
    if (step.line.startsWith("sed ")) expect(stderr).toBe("");
    else if (step.out.endsWith("...\n")) expect(stdout.startsWith(step.out.slice(0, -4)), stdout).toBe(true);
    else expect(stdout.trimEnd(), stderr).toBe(step.out.trimEnd());
  }
  expect(commands).toBe(8);
});

/** As on a terminal of a usual width, without colors. */
const plain = { ...process.env, COLUMNS: "120", NO_COLOR: "1" };
