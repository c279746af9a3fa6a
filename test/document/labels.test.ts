import { compile, compiledOf, type DocumentInput, snapshotOf } from "portier";
import { openCompiled } from "portier/compiled";
import { compileText } from "portier/document";
import { makeReport, reportMarkdown, reportPage } from "portier/report";
import { openSnapshot } from "portier/snapshot";
import { describe, expect, it } from "vitest";
import { labelFromName } from "../../src/schema/label.js";

const document: DocumentInput = {
  portier: 1,
  tables: {
    loan_items: {
      label: "Things on loan",
      note: "What other museums have of ours.",
      key: "id",
      fields: {
        id: "text",
        insured_value: { type: "decimal", optional: true, note: "In euros." },
        crate: { type: "text", label: "Box no.", optional: true },
      },
      rules: { open: { to: "anyone", where: "crate is null", permit: { view: "all", edit: ["insured_value"] } } },
    },
  },
};
const portier = compile(document);
const item = { id: "1", insured_value: "2", crate: null };

describe("the label of a table or field", () => {
  it.each([
    ["insured_value", "Insured value"],
    ["insuredValue", "Insured value"],
    ["InsuredValue", "Insured value"],
    ["objectURL", "Object URL"],
    ["id", "ID"],
    ["parent_id", "Parent ID"],
    ["q1", "Q1"],
    ["Maße", "Maße"],
    ["área_útil", "Área útil"],
    ["__", "__"],
  ])("is made from its name where none is declared: %s as %s", (name, label) => {
    expect(labelFromName(name)).toBe(label);
  });

  it("is what a form says, of a compiled document and a snapshot too, and a refusal", () => {
    const session = portier.session();
    const sent = JSON.parse(JSON.stringify([compiledOf(portier), snapshotOf(session)]));
    for (const one of [session, openCompiled(sent[0]).session(), openSnapshot(sent[1])]) {
      const form = one.form("loan_items", item);
      expect(form?.label).toBe("Things on loan");
      expect(form?.fields.map(({ label }) => label)).toEqual(["ID", "Insured value", "Box no."]);
      expect(one.checkEdit("loan_items", item, { crate: "c" })).toMatchObject({
        refusals: [{ field: "crate", message: 'You may not set "Box no.".' }],
      });
    }
  });

  it("stands in reports, beside the name, with the note", () => {
    const report = makeReport(portier, { title: "Loans" });
    const text = reportMarkdown(report);
    for (const part of ["### Things on loan (`loan_items`)", "What other museums have of ours.", "In euros."]) {
      expect(text).toContain(part);
    }
    expect(text).toContain("may view everything and edit Insured value where Box no. is empty");
    expect(text).toContain("- **Box no.** `crate`, text");
    expect(reportPage(report)).toContain("<h3>Things on loan <code>loan_items</code></h3>");
  });

  it.each([['label: ""'], ['label: "  "'], ["label: 1"], ['label: "a\\nb"']])("is a line of text: not %s", (label) => {
    const text = `portier: 1\ntables:\n  crates:\n    ${label}\n    key: id\n    fields: { id: text }\n`;
    expect(() => compileText(text)).toThrow(/4:12 {2}wrong-shape {2}Label of "crates" must be a/);
  });
});
