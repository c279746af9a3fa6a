import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { portierCli } from "../support/cli.js";
import { museumData, museumFile } from "../support/museum.js";

const folder = mkdtempSync(join(tmpdir(), "portier-report-"));
afterAll(() => rmSync(folder, { recursive: true }));
const at = ["--at", "2026-11-24"];

describe("a report", () => {
  const text = portierCli(["report", museumFile]).out;

  it.each([
    [
      "a condition",
      "Whoever is keeper may view Shelf and edit Gallery label, Status, Condition and Shelf where Department is the person's Department.",
    ],
    [
      "ownership, and what a change must lead to",
      'The owner may edit everything but Requested by where Status is "draft", as long as afterwards Status is "draft" or "requested".',
    ],
    [
      "an exception",
      'Whoever is registrar (but not the owner) may edit Status where Status is "requested", as long as afterwards Status is "approved" or "refused".',
    ],
    ["a path, and what the person is above", "where Department of its Object is the person's Department"],
    [
      "a reserve",
      "Only whoever is registrar or director may view, create and edit Insured value, as far as a rule permits it. *What an object is worth is known to the registrar and the director only.*",
    ],
    ["a deny", "Nobody may create and edit Salary, whatever permits it."],
    [
      "a confirmation",
      'Everybody must confirm to edit and bulk-edit Shelf and photograph records where Status is "on\\_loan".',
    ],
    [
      "other records",
      "Nobody may delete records where there is a record of Exhibits of which Exhibition is this record, whatever permits it.",
    ],
    ["a scoped role", "Whoever is editor of its exhibition may view everything and edit Caption and Sequence."],
    [
      "an instant, in the time zone of the document",
      "Nobody may edit the cells B2:B, from 2027-04-01 on, whatever permits it.",
    ],
    ["a role", "Leads a department. Includes keeper and assistant; assigned and revoked by director; sees the screens"],
    ["what comes through another role", "May view everything (through assistant)."],
    ["a group", '**north** Its members are everybody of whom Site is "north"'],
    ["the matrix", "| registrar | all | all | all | all | - | all | all | all | - |"],
  ])("says in words: %s", (_what, sentence) => expect(text).toContain(sentence));

  it("names every rule at its table, and is the same each time", () => {
    const rules = [...new Set([...text.matchAll(/`(\w+\/[\w-]+)`$/gm)].map(([, rule]) => rule))];
    expect(rules).toHaveLength(65);
    expect(portierCli(["report", museumFile]).out).toBe(text);
  });

  it("is one page that loads nothing, with its pictures", () => {
    const html = portierCli(["report", museumFile, "--data", museumData, ...at, "--format", "html"]).out;
    expect(html).not.toMatch(/<script|<link|src=|url\(http|href="http/);
    for (const part of [
      '<svg class="roles"',
      ">collections</text>",
      '<figure class="grid">',
      ">Q1</text>",
      "all 400",
    ]) {
      expect(html).toContain(part);
    }
  });

  it("shows what people wrote as text, and never as marks", () => {
    const file = join(folder, "odd.portier.yaml");
    const name = `<title><script>x<script>"'|&amp; *b*`;
    const words = { file, title: name };
    writeFileSync(
      file,
      JSON.stringify({
        portier: 1,
        tables: {
          [name]: {
            key: "id",
            fields: { id: "text", [name]: "text" },
            rules: {
              r: {
                to: "anyone",
                where: `"${name.replaceAll('"', '""')}" = '<b>'`,
                permit: { view: "all" },
                note: name,
              },
            },
          },
        },
      }),
    );
    const ran = portierCli(["report", words.file, "--title", words.title, "--format", "html"]);
    expect(ran.err).toBe("");
    expect(ran.out).not.toMatch(/<script|&quot;<b>|'<b>/);
    expect(ran.out).toContain("&lt;script&gt;");
    const markdown = portierCli(["report", words.file, "--title", words.title]).out;
    expect(markdown).toContain("\\<script\\>");
    expect(markdown.replaceAll(/`+[^`]*`+/g, "")).not.toMatch(/[^\\]<script/);
  });
});
