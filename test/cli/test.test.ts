import { spawn } from "node:child_process";
import { cpSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { portierCli, waitForCli } from "../support/cli.js";
import { museumFolder } from "../support/museum.js";

const folder = mkdtempSync(join(tmpdir(), "portier-test-"));
afterAll(() => rmSync(folder, { recursive: true }));
const file = join(folder, "museum.portier.yaml");
const other = join(folder, "other.yaml");
const run = (...words: string[]) => portierCli(["test", file, ...words, "--at", "2026-11-24"]);
const expecting = (lines: string, ...words: string[]) => {
  writeFileSync(other, `expectations:\n${lines}\n`);
  return run(other, ...words);
};

beforeAll(() => {
  for (const name of [
    "museum.portier.yaml",
    "museum.roles.json",
    "museum.expect.yaml",
    "museum.recorded.expect.yaml",
    "data",
  ]) {
    cpSync(join(museumFolder, name), join(folder, name), { recursive: true });
  }
});

describe("expectations", () => {
  it("of the museum pass", () => {
    const ran = run();
    expect(ran.out).toMatch(/^\d{4} passed, 0 failed\n$/);
    expect(ran.code).toBe(0);
  });

  it("detect a rule that is a little too wide, with file and line, and why", () => {
    const text = readFileSync(file, "utf8");
    writeFileSync(file, text.replace("where: status = 'on_display'", "where: status <> 'withdrawn'"));
    const ran = run("--explain");
    writeFileSync(file, text);
    expect(ran.code).toBe(1);
    expect(ran.out).toMatch(
      /museum\.expect\.yaml:9:\d+ {2}a visitor: view objects\/BM-SH-0003 exactly\n +expected nothing, found accession, title.*\n +the same on 161 more records: BM-SH-0004, BM-SH-0005, /,
    );
    expect(ran.out).toMatch(/\| YES {2}A visitor may view accession of objects\/BM-SH-0003\./);
    expect(ran.out).toMatch(/\n\d+ passed, \d+ failed\n$/);
  });

  it.each<[string, string, string]>([
    ["may", "may: { view: [insured_value] }", "expected yes, found no"],
    ["mayNot", "mayNot: { view: [title] }", "expected no, found yes"],
    ["exactly", "exactly: { edit: [label] }", "expected label, found label, keeper, status, shelf, condition_note"],
    ["an act", "may: { delete: yes }", "expected yes, found no"],
    ["a change that is accepted", "edit: { label: a }\n    outcome: refused", "expected refused, found accepted"],
    ["a change that is refused", "edit: { title: a }", "expected accepted, found refused (title)"],
    [
      "a change that another rule refuses",
      "edit: { status: withdrawn }\n    outcome: refused\n    by: objects/keepers-hand-over",
      "expected refused by objects/keepers-hand-over, found refused by objects/withdrawal-is-the-directors",
    ],
    [
      "what a record becomes",
      "edit: { label: a }\n    becomes: { label: b }",
      'expected accepted {"label":"b"}, found accepted {"label":"a"}',
    ],
    ["a count", "count: { edit: 400 }", "expected 400, found 123"],
  ])("that fail say what was found: %s", (_what, check, says) => {
    const ran = expecting(`  - as: s-003\n    on: objects/BM-SH-0001\n    ${check}`);
    expect(ran.out).toContain(says);
    expect(ran.out).toMatch(/failed {3}.*other\.yaml:4:\d+ {2}s-003: /);
    expect(ran.code).toBe(1);
  });

  it("about what is not there fail", () => {
    expect(expecting("  - { as: s-003, on: objects/NONE, may: { view: [title] } }").out).toContain(
      'found no record "NONE"',
    );
    const none = "  - { as: s-003, on: { table: objects, where: title = 'none' }, mayNot: { view: [title] } }";
    expect(expecting(none).out).toContain("found no record that meets the condition");
  });

  it.each<[string, RegExp]>([
    ["- { as: s-003, on: object, may: { view: [title] } }", /:2:\d+ {2}unknown-table .*Did you mean "objects"/],
    ["- { as: s-003, on: objects, may: { see: [title] } }", /unknown-action.*"see"/],
    ["- { as: s-003, on: objects, may: { view: [titel] } }", /unknown-field .*Did you mean "title"/],
    ["- { as: { role: Keeper }, on: objects, may: { view: [title] } }", /unknown-who .*Did you mean "keeper"/],
    ["- { as: { rule: keeper }, on: objects, may: { view: [title] } }", /unknown-key .*Did you mean "role"/],
    ["- { as: s-003, on: { table: objects, where: titel = 'a' }, may: { view: [title] } }", /unknown-field .*"titel"/],
    ["- { as: s-003, on: objects/a, edit: { label: a }, outcome: refuse }", /unknown-choice .*Did you mean "refused"/],
    ["- { as: s-003, on: objects/a, edit: { label: a }, by: objects/none }", /unknown-rule/],
    ["- { as: s-003, on: objects/a, edit: { label: a }, create: { label: a } }", /one of edit, create and do/],
    ["- { as: s-003, on: objects/a, outcome: refused, may: { view: [title] } }", /given with edit, create or do/],
    ["- { as: s-003, at: soon, on: objects, count: { view: 1 } }", /bad-value .*"at" must be a date/],
    ["- { as: s-003, on: objects }", /needs "may". Say what is expected/],
    ["- { on: objects, may: { view: [title] } }", /needs "as"/],
    ["- { as: s-003, on: objects, count: { list: many } }", /A count must be a whole number/],
    ["- { as: s-003, on: objects, mayNot: { delete: [title] } }", /Delete of "objects" must be yes/],
  ])("that are wrong are refused as a whole, with the place: %s", (line, says) => {
    const ran = expecting(`  ${line}`);
    expect(ran.err).toMatch(says);
    expect(ran.err).toContain("other.yaml:2:");
    expect(ran).toMatchObject({ code: 2, out: "" });
  });

  it("are told as JUnit's XML and as JSON, the same each time", () => {
    const lines = "  - { name: 'A & B', as: s-003, on: objects/BM-SH-0001, may: { view: [title, insured_value] } }";
    const xml = expecting(lines, "--format", "junit");
    expect(xml.out).toMatch(/<testsuite name=".*other\.yaml" tests="2" failures="1">/);
    expect(xml.out).toMatch(
      /<testcase classname="A &amp; B" name=".*other\.yaml:2:\d+ s-003: view objects\/BM-SH-0001 title"\/>/,
    );
    expect(xml.out).toContain('<failure message="expected yes, found no">');
    expect(expecting(lines, "--format", "junit")).toEqual(xml);
    const { files } = JSON.parse(expecting(lines, "--format", "json").out);
    expect(files[0].results.map(({ passed }: { passed: boolean }) => passed)).toEqual([true, false]);
  });

  it("say what of the rules they have covered, and which rules never", () => {
    const one = "  - { as: s-003, on: objects/BM-SH-0001, may: { view: [title] } }";
    const some = expecting(one, "--coverage");
    expect(some.code).toBe(1);
    expect(some.out).toMatch(
      /not covered {5}.*museum\.portier\.yaml:\d+:\d+ {2}loans\/fees-are-confidential\n +it decided no answer\n/,
    );
    expect(some.out).toMatch(
      /partly covered {2}.* {2}objects\/what-is-on-display-is-public\n +its condition was never false\n +fields not covered: .*view label/,
    );
    expect(some.out).toMatch(/\n65 rules: \d covered, 0 of them in every part\n$/);
    const all = run("--coverage");
    expect(all.out).toMatch(/\n65 rules: 65 covered, 64 of them in every part\n$/);
    expect(all.code).toBe(0);
    // Those that are there in another quarter of the year alone are asked about at that time.
    const today = run(other, "--coverage").out;
    expect([...today.matchAll(/not covered {5}\S+ {2}plan\/(\S+)-quarter-is-over/g)]).toHaveLength(4);
    expect(JSON.parse(expecting(one, "--coverage", "--format", "json").out).rules).toHaveLength(65);
  });

  it("can be recorded: what holds now, once for all who are equal, and passes as it stands", () => {
    const recorded = run("--record");
    expect(recorded).toMatchObject({ code: 0, err: "" });
    expect(run("--record")).toEqual(recorded);
    expect(recorded.out).toContain("# s-009\n");
    expect(recorded.out).toContain("# s-008, and the same for s-022\n");
    expect(recorded.out).toContain("- { as: s-003, on: objects, count: { list: 400, view: 251, edit: 123, delete: 0,");
    writeFileSync(other, recorded.out);
    expect(run(other)).toMatchObject({ code: 0, out: expect.stringMatching(/^\d{4} passed, 0 failed\n$/) });
    // The one in the museum says the same.
    expect(readFileSync(join(museumFolder, "museum.recorded.expect.yaml"), "utf8")).toBe(recorded.out);
  });

  it("say of which small mistakes in the rules they detect nothing, the worst first", () => {
    const small = join(folder, "small.portier.yaml");
    const document = `portier: 1
people: { table: staff, roles: post }
roles: { keeper: {}, guide: {} }
tables:
  staff: { key: id, fields: { id: text, post: { choice: [keeper, guide] } } }
  things:
    key: id
    fields: { id: text, title: text }
    rules:
      seen: { to: keeper, where: title starts with 'a', permit: { view: [title] } }
`;
    writeFileSync(small, document);
    mkdirSync(join(folder, "small"));
    writeFileSync(join(folder, "small", "staff.json"), '[{"id":"k","post":"keeper"},{"id":"g","post":"guide"}]');
    writeFileSync(join(folder, "small", "things.json"), '[{"id":"1","title":"anvil"},{"id":"2","title":"canvas"}]');
    const asked = (lines: string) => {
      writeFileSync(other, `expectations:\n${lines}\n`);
      return portierCli(["test", small, other, "--mutate", "--data", join(folder, "small")]);
    };
    const some = asked("  - { as: k, on: things/1, exactly: { view: [id, title] } }");
    expect(some.out).toMatch(
      /survived {2}.*small\.portier\.yaml:10:\d+ {2}things\/seen: to anyone\n +visitor, g would list, view id, title of 1 things\n/,
    );
    expect(some.out).toContain("things/seen: where: contains instead of starts with");
    expect(some.code).toBe(1);
    const all = asked(
      "  - { as: k, on: things, count: { view: 1 } }\n  - { as: g, on: things, count: { view: 0 } }\n  - { as: k, on: things/1, may: { view: [title] } }",
    );
    expect(all).toMatchObject({
      code: 0,
      out: expect.stringMatching(/^7 mutations: \d detected, 0 survived, 1 change nothing/),
    });
    expect(all.err).toMatch(/^(?:test --mutate: \d of 7 changes tried\n)*$/);
  });

  it("mark the rules file line by line with what they have covered", () => {
    const ran = expecting(
      "  - { as: s-003, on: objects/BM-SH-0001, may: { view: [title] } }",
      "--coverage",
      "--format",
      "html",
    );
    expect(ran.code).toBe(1);
    const line = (text: string) => ran.out.split("\n").find((one) => one.includes(`<pre>${text}</pre>`)) ?? "";
    expect(line("      what-is-on-display-is-public:")).toMatch(/class="in partly".*◐/);
    expect(line("        where: status = &#39;on_display&#39;")).toContain("true ✓  false ✗  unknown ✗");
    expect(line("      fees-are-confidential:")).toMatch(/class="in never".*✗.*it decided no answer/);
    expect(
      line(
        "      first-quarter-is-over: { from: &quot;2027-04-01&quot;, deny: { edit: { cells: &quot;B2:B&quot; } }, note: This quarter is over. }",
      ),
    ).toMatch(/class="in later"/);
    expect(run("--format", "html")).toMatchObject({ code: 2, err: expect.stringContaining("--coverage") });
  });

  it("are findings at their lines for tools that show these", () => {
    const lines = "  - { as: s-003, on: { table: objects, where: department = 'ships' }, mayNot: { view: [title] } }";
    const { runs } = JSON.parse(expecting(lines, "--format", "sarif").out);
    expect(runs[0].results).toHaveLength(1);
    expect(runs[0].results[0].message.text).toMatch(/expected no, found yes, and the same on \d+ more records/);
    expect(runs[0].results[0].locations[0].physicalLocation.region.startLine).toBe(2);
  });

  it("can be written in a module", async () => {
    const module = join(folder, "museum.module.expect.mjs");
    const list = [{ as: "s-003", on: "objects/BM-SH-0001", mayNot: { view: ["insured_value"] } }];
    writeFileSync(module, `export default ${JSON.stringify({ expectations: list })};\n`);
    const ran = await waitForCli(["test", file, module, "--at", "2026-11-24"]);
    expect(ran).toMatchObject({ code: 0, out: "1 passed, 0 failed\n" });
    writeFileSync(module, "export default { expectations: [{ as: 's-003' }] };\n");
    expect(await waitForCli(["test", file, module])).toMatchObject({
      code: 2,
      err: expect.stringContaining('needs "on"'),
    });
    writeFileSync(module, "throw new Error('not today');\n");
    expect(await waitForCli(["test", file, module])).toMatchObject({
      code: 2,
      err: expect.stringContaining("not today"),
    });
    rmSync(module);
  });

  it("are run again when the rules change, until they are stopped", async () => {
    const text = readFileSync(file, "utf8");
    writeFileSync(other, "expectations:\n  - { as: visitor, on: objects, count: { view: 186 } }\n");
    const words = ["dist/cli/main.js", "test", file, other, "--watch", "--at", "2026-11-24"];
    const child = spawn("node", words);
    let said = "";
    const until = (part: string) =>
      new Promise<void>((resolve) => {
        const look = () => said.includes(part) && resolve();
        for (const stream of [child.stdout, child.stderr]) {
          stream.on("data", (more: Buffer) => {
            said += String(more);
            look();
          });
        }
        look();
      });
    try {
      await until("1 passed, 0 failed");
      writeFileSync(file, text.replace("where: status = 'on_display'", "where: status <> 'withdrawn'"));
      await until("expected 186, found");
      writeFileSync(file, "portier: 1\ntables: { objects: { kee: id } }\n");
      await until("unknown-key");
    } finally {
      child.kill();
      writeFileSync(file, text);
    }
  });

  it("need a file, and people", () => {
    expect(run("none.yaml")).toMatchObject({ code: 2, err: expect.stringContaining("Cannot read none.yaml") });
    for (const name of ["museum.expect.yaml", "museum.recorded.expect.yaml"]) rmSync(join(folder, name));
    expect(run()).toMatchObject({
      code: 2,
      err: expect.stringContaining("museum.expect.yaml: name a file of expectations"),
    });
  });
});
