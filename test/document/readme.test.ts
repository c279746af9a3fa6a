import { readFileSync } from "node:fs";
import { compile, define, type Row } from "portier";
import { compileText } from "portier/document";
import { lint } from "portier/verify";
import { describe, expect, it } from "vitest";

const readme = readFileSync("README.md", "utf8");

describe("the README", () => {
  it("has a first rules file that does what it says", () => {
    const [yaml = ""] = /(?<=```yaml\n)[\s\S]*?(?=```)/.exec(readme) ?? [];
    const portier = compileText(yaml, { file: "README.md" });
    expect(lint(portier).map(({ code }) => code)).toEqual([]);

    const session = portier.session({ person: { id: "s-003", post: "keeper", department: "ships", active: true } });
    const sextant: Row = {
      accession: "BM-IN-0009",
      title: "Sextant",
      department: "ships",
      keeper: "s-003",
      status: "registered",
      insured_value: "9800.00",
    };
    expect(session.may("view", "objects", sextant, "insured_value")).toBe(false);
    const { insured_value: _, ...seen } = sextant;
    expect(session.maskAll("objects", [sextant])).toEqual([seen]);
    expect(session.checkEdit("objects", sextant, { status: "withdrawn" })).toMatchObject({
      accepted: false,
      refusals: [{ field: "status", message: "Only the registrar withdraws an object." }],
    });
    expect(session.reach("edit", "objects")).toBe("some");
  });

  it("declares in TypeScript what compiles and answers as it says", () => {
    const declared = define({
      people: { table: "staff", roles: "post" },
      roles: { keeper: {} },
      tables: {
        staff: { key: "id", fields: { id: "text", post: { choice: ["keeper"] }, department: "text" } },
        objects: { key: "id", fields: { id: "text", title: "text", department: "text" } },
      },
    }).rules({
      objects: {
        "keepers-open-their-department": {
          to: "keeper",
          where: ({ record, me }) => record.department.is(me.department),
          permit: { view: "all", edit: ["title"] },
        },
      },
    });
    // Without spaces, as those are the formatter's.
    const tight = (text: string) => text.replaceAll(/\s/g, "");
    expect(tight(readFileSync("docs/typescript.md", "utf8"))).toContain(
      tight("where: ({ record, me }) => record.department.is(me.department),"),
    );
    const session = compile(declared).session({ person: { id: "s-003", post: "keeper", department: "ships" } });
    expect(session.mask("objects", { id: "o-1", title: "Bell", department: "ships" })?.title).toBe("Bell");
    expect(session.mask("objects", { id: "o-1", title: "Bell", department: "arms" })).toBeUndefined();
  });

  it("shows no picture and no page that is not there", () => {
    const links = [...readme.matchAll(/\]\(([^)]+)\)/g)].map(([, path]) => path ?? "");
    expect(links.length).toBeGreaterThan(4);
    for (const path of links) expect(() => readFileSync(path), path).not.toThrow(/ENOENT/);
  });
});

describe("the list of tests by sentence of the model", () => {
  it("names tests that are there", () => {
    const cells = [
      ...readFileSync("docs/model-tests.md", "utf8").matchAll(/`([\w/-]+\.test\.ts)` ((?:_[^_|]+_(?:, )?)+)/g),
    ];
    expect(cells.length).toBeGreaterThan(100);
    const titles = cells.flatMap(([, file = "", list = ""]) =>
      list.split("_, _").map((title) => [file, title] as const),
    );
    const missing = titles.filter(([file, title]) => {
      const text = readFileSync(`test/${file}`, "utf8") + readFileSync("test/support/comparisons.ts", "utf8");
      return !text.includes(title.replace(/^_|_$/g, ""));
    });
    expect(missing).toEqual([]);
  });
});
