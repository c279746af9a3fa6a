import { readFileSync } from "node:fs";
import { compile, type DocumentInput } from "portier";
import { compileText, parseDocument } from "portier/document";
import { canonicalJson } from "portier/tooling";
import { describe, expect, it } from "vitest";
import { museum } from "../../examples/museum/museum.js";
import { museumFile } from "../support/museum.js";

const yaml = parseDocument(readFileSync(museumFile, "utf8")).document;

describe("the museum in YAML and in TypeScript", () => {
  it("is the same document", () => {
    expect(canonicalJson(museum)).toBe(canonicalJson(yaml));
    expect(() => compile(museum)).not.toThrow();
  });

  it("is also the same as its canonical JSON, but for the fields, which stand there as a list", () => {
    const tables = JSON.parse(canonicalJson(yaml)).tables as Record<string, { fields: { name: string }[] }>;
    expect(tables["objects"]?.fields.map(({ name }) => name).slice(0, 3)).toEqual(["accession", "title", "label"]);
  });
});

describe("canonical JSON", () => {
  const document = (rule: object): DocumentInput => ({
    portier: 1,
    tables: { a: { key: "id", fields: { id: "text", b: { type: "text", optional: true } }, rules: { one: rule } } },
  });

  it.each<[string, object, object, boolean]>([
    [
      "one name or a list of one",
      { to: "anyone", permit: { view: "all" } },
      { to: ["anyone"], permit: { view: ["all"] } },
      true,
    ],
    ["yes or true", { to: "anyone", permit: { delete: "yes" } }, { to: "anyone", permit: { delete: true } }, true],
    [
      "spaces and capitals",
      { where: "b='x' AND id is NULL", deny: { view: "all" } },
      { deny: { view: "all" }, where: "b = 'x' and id is null" },
      true,
    ],
    [
      "a condition as a boolean",
      { where: true, deny: { view: "all" } },
      { where: "true", deny: { view: "all" } },
      true,
    ],
    ["another value", { where: "b = 'x'", deny: { view: "all" } }, { where: "b = 'X'", deny: { view: "all" } }, false],
    ["another extent", { deny: { view: "all" } }, { deny: { view: ["b"] } }, false],
  ])("tells %s apart: %#", (_what, one, other, same) => {
    expect(canonicalJson(document(one)) === canonicalJson(document(other))).toBe(same);
    expect(() => compileText(JSON.stringify(document(one)))).not.toThrow();
  });

  it("keeps a default that is false", () => {
    const table = (field: object) => ({ portier: 1, tables: { a: { key: "id", fields: { id: "text", b: field } } } });
    const kept = canonicalJson(table({ type: "boolean", default: false }) as DocumentInput);
    expect(kept).not.toBe(canonicalJson(table({ type: "boolean" }) as DocumentInput));
    expect(JSON.parse(kept)).toMatchObject({
      tables: { a: { fields: [{ name: "id" }, { name: "b", default: false }] } },
    });
  });
});
