import { execFileSync } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeEach, describe, expect, it } from "vitest";
import { portierCli } from "../support/cli.js";
import { museumFile, museumFolder } from "../support/museum.js";

const folder = mkdtempSync(join(tmpdir(), "portier-diff-"));
afterAll(() => rmSync(folder, { recursive: true }));
const file = join(folder, "museum.portier.yaml");
const at = ["--at", "2026-11-24"];
const diff = (...words: string[]) => portierCli(["diff", museumFile, file, ...at, ...words]);
const change = (from: string, to: string) => {
  const text = readFileSync(museumFile, "utf8");
  expect(text).toContain(from);
  writeFileSync(file, text.replace(from, to));
};

describe("a change of the rules", () => {
  beforeEach(() => {
    for (const name of ["museum.portier.yaml", "museum.roles.json", "data"]) {
      cpSync(join(museumFolder, name), join(folder, name), { recursive: true });
    }
    cpSync(join(folder, "data"), join(folder, "trimmed"), { recursive: true });
    const objects = JSON.parse(readFileSync(join(folder, "data", "objects.json"), "utf8")) as Record<string, unknown>[];
    const trimmed = objects.map(({ made_in: _, ...row }) => row);
    writeFileSync(join(folder, "trimmed", "objects.json"), JSON.stringify(trimmed));
  });

  it("that changes nothing is the same", () => {
    expect(diff()).toMatchObject({ code: 0, out: "same  nobody gains or loses anything\n" });
  });

  it("that is a little too wide is stopped, with whom, on how many records, and which", () => {
    change("where: status = 'on_display'", "where: status <> 'withdrawn'");
    const ran = diff();
    expect(ran.code).toBe(1);
    expect(ran.out).toMatch(
      /visitor, s-008, s-010, s-021 and 2 more\n.*\n\+ +objects +list, view +162 of 400 +accession, title, label/,
    );
    expect(ran.out).toMatch(/\? +visitor, volunteer, treasurer, editor, lead +objects +list, view +other conditions/);
    expect(ran.err).toBe("27 gains are not accepted\n");
  });

  it.each([
    [
      "    key: accession\n",
      "    key: accession\n    observe: true\n",
      "objects is observed: in a database nothing of it is refused or hidden",
    ],
    [
      "keeper: { include: [assistant], assignableBy: [director]",
      "keeper: { include: [assistant], assignableBy: [director, head]",
      "head may give and take keeper",
    ],
    ["exclusive: [director] } # pays", "} # pays", "director and treasurer may be held together"],
    [
      "assignableBy: [director], minHolders: 1 }",
      "assignableBy: [director] }",
      "director must be held by 0 instead of 1",
    ],
  ])("besides the rules is stopped, too: %s", (from, to, sentence) => {
    change(from, to);
    const ran = diff();
    expect(ran.code).toBe(1);
    expect(ran.out).toContain(`besides the rules\n+  ${sentence}\n`);
    expect(JSON.parse(diff("--format", "json").out).declared).toEqual([sentence]);
    expect(diff("--format", "markdown").out).toContain(`### Besides the rules\n\n- ${sentence}`);
    const accept = join(folder, "accepted.txt");
    writeFileSync(accept, `${sentence}\n`);
    expect(diff("--accept", accept).code).toBe(0);
  });

  it("passes once its gains are accepted, and not any more when they grow", () => {
    change("permit: { view: [name, head] }", "permit: { view: [name, head], edit: [name] }");
    const { gains } = JSON.parse(diff("--format", "json").out) as { gains: { sentence: string }[] };
    expect(gains.length).toBeGreaterThan(0);
    const accept = join(folder, "accepted.txt");
    writeFileSync(
      accept,
      `# Meant: departments are renamed by everybody.\n${gains.map(({ sentence }) => sentence).join("\n")}\n`,
    );
    expect(diff("--accept", accept)).toMatchObject({ code: 0, err: "" });
    change("permit: { view: [name, head] }", "permit: { view: [name, head], edit: [name, head] }");
    expect(diff("--accept", accept).code).toBe(1);
  });

  it("that takes away is told, and stops nothing", () => {
    change("permit: { view: [name, salary] }", "permit: { view: [name] }");
    const ran = diff();
    expect(ran).toMatchObject({ code: 0, err: "" });
    expect(ran.out).toMatch(/s-010\n.*\n- +staff +list, view +23 of 24 +sensitive: salary/);
    expect(ran.out).toMatch(/- +treasurer +staff +list, view +all -> (some|own) +salary/);
  });

  it("that takes a field out of the document is a loss of it", () => {
    change("      made_in: { type: text, optional: true }\n", "");
    const text = readFileSync(file, "utf8");
    writeFileSync(file, text.replace("material, made_in]", "material]"));
    const ran = portierCli(["diff", museumFile, file, "--data", join(folder, "trimmed"), ...at]);
    // Nothing else is different, although the same rules speak of other fields.
    expect(ran).toMatchObject({ code: 0, err: "" });
    expect(ran.out).toMatch(/- +registrar +objects +list, view, export, import +all -> none +made_in/);
    expect(ran.out).not.toMatch(/\? +/);
    expect(ran.out).toMatch(/visitor, .*\n.*\n- +objects +list, view +186 of 400 +made_in/);
  });

  it("that opens what no record at hand shows is a gain all the same", () => {
    change("actions: [finish]", "actions: [finish, burn]");
    const text = readFileSync(file, "utf8");
    writeFileSync(
      file,
      text.replace(
        "conservators-read-all-treatments:",
        "nobody-yet: { to: director, where: cost > 999999, permit: { burn: yes } }\n      conservators-read-all-treatments:",
      ),
    );
    const ran = diff();
    expect(ran.code).toBe(1);
    expect(ran.out).toContain("director: burn treatments none -> some");
    // The other way round it is a loss.
    const back = portierCli(["diff", file, museumFile, ...at]);
    expect(back.code).toBe(0);
    expect(back.out).toMatch(/- +director +treatments +burn +some -> none +the record/);
  });

  it("that lets a change lead further is a gain, also where records show a loss beside it", () => {
    change("becomes: status in ('draft', 'requested')", "becomes: status in ('draft', 'requested', 'approved')");
    expect(diff()).toMatchObject({ code: 1, out: expect.stringContaining("loans object, borrower, status") });
    const text = readFileSync(file, "utf8");
    // Another rule of the same action is gone: who could edit the same fields of loans, cannot any more.
    expect(text).toMatch(/edit: \[all, fee, courier\]/);
    writeFileSync(file, text.replace("edit: [all, fee, courier]", "edit: [status]"));
    const ran = diff();
    expect(ran.out).toMatch(/- +loans +edit/);
    expect(ran.out).toMatch(/not accepted[\s\S]*edit loans .*status.* to another end/);
    expect(ran.code).toBe(1);
  });

  it("is written for a pull request", () => {
    change("where: status = 'on_display'", "where: status <> 'withdrawn'");
    const ran = diff("--format", "markdown");
    expect(ran.out).toMatch(/^## Who gains and loses what\n\n\*\*27 not accepted\.\*\*\n\n### visitor, s-008/);
    expect(ran.out).toContain(
      "| gains | objects | list, view | 162 of 400 | accession, title, label, material, made_in | BM-SH-0003",
    );
  });

  it("is told against an earlier revision, and without people by the rules alone", () => {
    const git = (...words: string[]) => execFileSync("git", ["-C", folder, ...words], { stdio: "pipe" });
    git("init", "-q");
    git("add", ".");
    git("-c", "user.name=a", "-c", "user.email=a@b", "commit", "-qm", "first");
    change("where: status = 'on_display'", "where: status <> 'withdrawn'");
    const ran = portierCli(["diff", `HEAD:${file}`, file, ...at]);
    expect(ran.err).toBe("27 gains are not accepted\n");
    rmSync(join(folder, "data"), { recursive: true });
    const alone = portierCli(["diff", `HEAD:${file}`, file]);
    expect(alone.code).toBe(1);
    expect(alone.out).toMatch(
      /not accepted.*\nvisitor, volunteer, .*: list, view objects title, label, material, made_in by other conditions\n/,
    );
    expect(portierCli(["diff", `HEAD~9:${file}`, file])).toMatchObject({
      code: 2,
      err: expect.stringContaining("Git does not have"),
    });
    expect(portierCli(["diff", join(folder, "none.yaml"), file]).code).toBe(2);
    expect(portierCli(["diff", file, file, "--accept", join(folder, "none")])).toMatchObject({ code: 2 });
  });
});
