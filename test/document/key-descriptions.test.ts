import { readFileSync } from "node:fs";
import ts from "typescript";
import { expect, it } from "vitest";

// The builder shows these when a key is hovered, the JSON Schema shows them in editors of YAML: both say the same.
const schema: unknown = JSON.parse(readFileSync("schema/portier.schema.json", "utf8"));

const child = (node: unknown, key: string): unknown => (node as Readonly<Record<string, unknown>> | undefined)?.[key];

/** Where the schema has the keys of each interface. */
const places: Readonly<Record<string, readonly string[]>> = {
  DocumentInput: [],
  PeopleInput: ["$defs", "people"],
  SettingsInput: ["$defs", "settings"],
  LinkInput: ["$defs", "roleSource"],
  RoleInput: ["properties", "roles", "additionalProperties"],
  GroupInput: ["properties", "groups", "additionalProperties"],
  ScreenInput: ["properties", "screens", "additionalProperties"],
  TableInput: ["$defs", "table"],
  EveryTableInput: ["properties", "tables", "properties", "*"],
  GridInput: ["$defs", "table", "properties", "grid"],
  FieldInput: ["$defs", "field"],
  RuleInput: ["$defs", "rule"],
};

/** A schema node, or the one of its alternatives that is an object. */
function objectIn(node: unknown): unknown {
  if (child(node, "properties") !== undefined) return node;
  const all = [child(node, "anyOf"), child(node, "oneOf")].flatMap((one) =>
    one === undefined ? [] : (one as unknown[]),
  );
  return all.find((one) => child(one, "properties") !== undefined);
}

const file = "src/schema/document.ts";
const source = ts.createSourceFile(file, readFileSync(file, "utf8"), ts.ScriptTarget.Latest, true);

/** Each key of the document, with its docstring in the builder and its description in the schema. */
const keys = source.statements.flatMap((statement) => {
  const isShape = ts.isInterfaceDeclaration(statement) || ts.isTypeAliasDeclaration(statement);
  const place = isShape ? places[statement.name.text] : undefined;
  if (!isShape || place === undefined) return [];
  const properties = child(objectIn(place.reduce(child, schema)), "properties");
  const members = ts.isInterfaceDeclaration(statement)
    ? statement.members
    : ts.isUnionTypeNode(statement.type)
      ? statement.type.types.flatMap((one) => (ts.isTypeLiteralNode(one) ? [...one.members] : []))
      : [];
  return [...members].flatMap((member) => {
    if (!ts.isPropertySignature(member) || !ts.isIdentifier(member.name)) return [];
    const key = member.name.text;
    const doc = ts.getJSDocCommentsAndTags(member).map((one) => ts.getTextOfJSDocComment(one.comment));
    return [[`${statement.name.text}.${key}`, doc.join(" "), child(child(properties, key), "description")] as const];
  });
});

it("has every part of the document", () => {
  expect(keys.length).toBeGreaterThan(80);
  expect(new Set(keys.map(([name]) => name.split(".")[0]))).toEqual(new Set(Object.keys(places)));
});

it.each(keys)("%s is said to be the same in the builder and in editors of YAML", (_key, doc, description) => {
  expect(doc).not.toBe("");
  expect(description).toBe(doc);
});
