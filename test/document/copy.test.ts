import { readFileSync } from "node:fs";
import fc from "fast-check";
import { compile, type DocumentInput, type TableInput } from "portier";
import { parseDocument } from "portier/document";
import { makeReport, reportMarkdown } from "portier/report";
import { copyRole, copyRule } from "portier/tooling";
import { lint } from "portier/verify";
import { describe, expect, it } from "vitest";
import { museumFile } from "../support/museum.js";
import { documentFrom, everyRules, groups, now, rules } from "../support/random-documents.js";
import { runsOf } from "../support/runs.js";

const { document } = parseDocument(readFileSync(museumFile, "utf8"));

describe("a copy", () => {
  it("of a rule differs in what it is told to", () => {
    const copied = copyRule(document, "plan/heading-is-fixed", { name: "heading-too", to: ["treasurer"] });
    compile(copied);
    const { rules } = copied.tables["plan"] as TableInput;
    expect(rules?.["heading-too"]).toEqual({ ...rules?.["heading-is-fixed"], to: "treasurer" });
    expect(() => copyRule(copied, "plan/heading-is-fixed", { name: "heading-too" })).toThrow(
      /has a rule "heading-too"/,
    );
    expect(() => copyRule(document, "plan/nothing", { name: "x" })).toThrow(/no rule "plan\/nothing"/);
    expect(() => copyRule(document, "plan/heading-is-fixed", { name: " " })).toThrow(/needs a name/);
  });

  it.each(["keeper", "registrar", "treasurer", "director", "editor"])(
    "of %s's part lets its holder do the same",
    (role) => {
      const portier = compile(copyRole(document, role, "newcomer"));
      const [one, other] = [role, "newcomer"].map((name) => portier.sessionForRoles([name]));
      for (const table of portier.schema.tables.values()) {
        for (const action of ["list", "view", "create", "edit"]) {
          for (const { name } of table.fields) {
            const expected = one?.reach(action, table.name, name);
            expect(other?.reach(action, table.name, name), `${action} ${table.name} ${name}`).toBe(expected);
          }
        }
      }
      expect(other?.screens()).toEqual(one?.screens());
    },
  );

  it("of a role's part is rules of its own, which say where they come from until they differ", () => {
    const copied = copyRole(document, "keeper", "newcomer");
    const rules = copied.tables["objects"]?.rules ?? {};
    const [name, rule] = Object.entries(rules).find(([, one]) => one.copyOf !== undefined) ?? [];
    expect(rule).toEqual({ ...rules[rule?.copyOf ?? ""], to: "newcomer", copyOf: rule?.copyOf, ignore: undefined });
    const codes = (one: DocumentInput) => lint(compile(one)).map(({ code }) => code);
    expect(codes(copied)).not.toContain("copy-differs");
    const markdown = reportMarkdown(makeReport(compile(copied), { title: "t" }));
    expect(markdown).toContain(`A copy of objects/${rule?.copyOf}.`);
    const changed = { ...rules, [name ?? ""]: { ...rule, note: "Another one." } };
    const other = { ...copied, tables: { ...copied.tables, objects: { ...copied.tables["objects"], rules: changed } } };
    expect(codes(other as DocumentInput)).toContain("copy-differs");
    expect(reportMarkdown(makeReport(compile(other as DocumentInput), { title: "t" }))).not.toContain(
      `A copy of objects/${rule?.copyOf}.`,
    );
    const lost = { ...changed, [name ?? ""]: { ...rule, copyOf: "nothing" } };
    const tables = { ...copied.tables, objects: { ...copied.tables["objects"], rules: lost } };
    expect(() => compile({ ...copied, tables } as DocumentInput)).toThrow(/Unknown rule "nothing"/);
  });

  it("of a role's part stands beside it where somebody is asked to be the other", () => {
    const conditions = ["me is keeper", "not (owner is not keeper)", "exists (staff where this is keeper and id = me)"];
    for (const where of conditions) {
      const rules = { one: { to: "anyone", where, permit: { view: "all" } } };
      const asking = {
        ...document,
        tables: { ...document.tables, objects: { ...document.tables["objects"], rules } },
      } as unknown as DocumentInput;
      const text = copyRole(asking, "keeper", "newcomer").tables["objects"]?.rules?.["one"]?.where;
      expect(text).toContain("is newcomer");
    }
  });

  it("of a role's part is the same part, whatever the rules are", () => {
    const drawn = fc.record({
      rules: fc.array(rules, { minLength: 1, maxLength: 6 }),
      every: fc.option(everyRules, { nil: undefined }),
      groups: fc.option(groups, { nil: undefined }),
    });
    fc.assert(
      fc.property(drawn, fc.constantFrom("junior", "senior", "clerk", "editor", "lead"), (given, role) => {
        const portier = compile(copyRole(documentFrom(given as never), role, "newcomer"));
        const [one, other] = [role, "newcomer"].map((name) => portier.sessionForRoles([name], { request: { now } }));
        const { fields = [] } = portier.schema.tables.get("items") ?? {};
        const reaches = (session: typeof one) =>
          ["list", "view", "create", "edit", "delete"].flatMap((action) =>
            [undefined, ...(action === "delete" ? [] : fields)].map((field) =>
              session?.reach(action, "items", field?.name),
            ),
          );
        expect(reaches(other)).toEqual(reaches(one));
      }),
      { numRuns: runsOf(100) },
    );
  });

  it("of a role needs one, and a name of its own", () => {
    expect(() => copyRole(document, "kepeer", "x")).toThrow(/no role "kepeer"/);
    expect(() => copyRole(document, "keeper", "north")).toThrow(/a group "north"/);
  });
});
