import { cpSync, mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { waitForCli } from "../support/cli.js";

const folder = "examples/mistakes";
// A copy, as revoking would write beside the document.
const copy = mkdtempSync(join(tmpdir(), "portier-mistakes-"));
cpSync(folder, copy, { recursive: true });
afterAll(() => rmSync(copy, { recursive: true }));

const rows = [
  ...readFileSync(`${folder}/README.md`, "utf8").matchAll(/^\| (.+?) +\| `portier (.+?)` +\| `(.+?)` +\|$/gm),
];

/** The words of a command, with the files of the folder where they are. */
function words(command: string): string[] {
  return command.split(" ").map((word) => (/\.yaml$|^(?:[\w-]+\/)?data$/.test(word) ? join(copy, word) : word));
}

describe("a mistake that people make", () => {
  it("is there for each of the list", () => expect(rows.length).toBe(19));

  it.each(rows.map(([, mistake = "", command = "", says = ""]) => [mistake, command, says]))(
    "is found: %s",
    async (_mistake, command, says) => {
      const ran = await waitForCli(words(command));
      expect(`${ran.out}${ran.err}`).toContain(says);
      // Why something is refused is an answer, and no finding.
      expect(ran.code === 0).toBe(command.startsWith("explain"));
      // Found alone: its document raises no other warning.
      if (command.startsWith("lint")) expect(ran.out.trim().split("\n")).toHaveLength(1);
    },
  );
});
