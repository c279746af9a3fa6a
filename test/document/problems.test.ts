import { readFileSync } from "node:fs";
import { Ajv2020 } from "ajv/dist/2020.js";
import fc from "fast-check";
import { compile, formatProblem, PortierError } from "portier";
import { compileText, parseDocument, readData } from "portier/document";
import { describe, expect, it } from "vitest";
import { museumFile } from "../support/museum.js";
import { documentFrom, everyRules, groups, rules, sheetRules } from "../support/random-documents.js";
import { runsOf } from "../support/runs.js";

/** The problems that a call throws, each as the line that a person reads; none when it throws nothing. */
function problemsOf(call: () => unknown): string[] {
  try {
    call();
    return [];
  } catch (error) {
    if (!(error instanceof PortierError)) throw error;
    return error.problems.map(formatProblem);
  }
}

const head = `portier: 1
people: { table: staff, roles: post, manager: boss }
roles: { keeper: {}, registrar: {} }
tables:
  staff:
    key: id
    owner: id
    fields: { id: text, post: { choice: [keeper, registrar] }, boss: { reference: staff, optional: true } }
  objects:
    key: id
    owner: keeper
    fields: { id: text, title: text, keeper: { reference: staff }, status: { choice: [in, out] }, count: integer }
    rules:
`;
const rule = (body: string) => `${head}      one: ${body}\n`;

const mistakes: [string, string, RegExp[]][] = [
  ["an empty file", "", [/^d\.yaml:1:1 {2}wrong-shape {2}A document must be a mapping/, /unknown-version/, /tables/]],
  ["a list", "- a\n", [/wrong-shape/, /unknown-version/, /missing-key/]],
  ["no YAML", "portier: 1\ntables: [a\n", [/^d\.yaml:3:1 {2}not-yaml/]],
  [
    "a key twice",
    "portier: 1\nportier: 1\ntables: {}\n",
    [/^d\.yaml:2:1 {2}duplicate-name {2}Duplicate key "portier"/],
  ],
  ["a key twice in two spellings", 'portier: 1\ntables: { a: 1, "a": 2 }\n', [/^d\.yaml:2:17 {2}duplicate-name/]],
  ["another version", "portier: 2\ntables: {}\n", [/^d\.yaml:1:10 {2}unknown-version .*"portier" must be 1.*not 2/]],
  [
    "an unknown key",
    `${head}      one: { to: anyone, permits: { view: all } }\n`,
    [/missing-effect/, /unknown-key.*Did you mean "permit"/],
  ],
  [
    "an unknown key at the top",
    "portier: 1\ntabels: {}\ntables: {}\n",
    [/^d\.yaml:2:\d+ {2}unknown-key .*Did you mean "tables"/],
  ],
  [
    "an unknown people table",
    "portier: 1\npeople: { table: staf }\ntables: { staff: { key: id, fields: { id: text } } }\n",
    [/^d\.yaml:2:18 {2}unknown-table .*Did you mean "staff"/],
  ],
  [
    "an unknown field in a condition",
    rule("{ to: anyone, where: titel = 'a', permit: { view: all } }"),
    [/^d\.yaml:14:33 {2}unknown-field {2}Table "objects" has no field "titel". Did you mean "title"\?$/],
  ],
  [
    "an unknown field in an extent",
    rule("{ to: anyone, permit: { view: [title, staus] } }"),
    [/^d\.yaml:14:50 {2}unknown-field .*Did you mean "status"/],
  ],
  [
    "a role with another capital",
    rule("{ to: [Registrar], permit: { view: all } }"),
    [/^d\.yaml:14:19 {2}unknown-who {2}Unknown role or group "Registrar".*Did you mean "registrar"/],
  ],
  [
    "an unknown choice value",
    rule("{ to: anyone, where: \"status = 'inn'\", permit: { view: all } }"),
    [/^d\.yaml:14:43 {2}unknown-choice {2}"inn" is not a value of "status". Did you mean "in"/],
  ],
  [
    "a type mismatch",
    rule("{ to: anyone, where: count = 'two', permit: { view: all } }"),
    [/^d\.yaml:14:\d+ {2}type-mismatch {2}An integer cannot be compared with a text by "="/],
  ],
  ["two effects", rule("{ to: anyone, permit: { view: all }, deny: { view: [title] } }"), [/several-effects/]],
  ["a permit for nobody", rule("{ permit: { view: all } }"), [/missing-to/]],
  ["an unknown action", rule("{ to: anyone, permit: { veiw: all } }"), [/unknown-action.*Did you mean "view"/]],
  ["yes where fields are meant", rule("{ to: anyone, permit: { view: yes } }"), [/wrong-extent/]],
  [
    "becomes on a view",
    rule("{ to: anyone, becomes: \"status = 'in'\", permit: { view: all } }"),
    [/misplaced-becomes/],
  ],
  ["the key denied alone", rule("{ deny: { view: [id] } }"), [/denied-key/]],
  ["a rule's name with a space", `${head}      "one rule": { deny: { view: all } }\n`, [/bad-name/]],
  [
    "a reserved name",
    "portier: 1\ntables: { __proto__: { key: id, fields: { id: text } } }\n",
    [/bad-name {2}"__proto__" is not a valid name for a table/],
  ],
  ["a role called owner", "portier: 1\nroles: { owner: {} }\ntables: {}\n", [/^d\.yaml:2:\d+ {2}bad-name/]],
  [
    "roles that exclude each other and come together",
    `portier: 1
roles:
  a: {}
  b: { exclusive: [a] }
  c: { include: [a, b] }
  d: { exclusive: [d] }
groups: { g: { members: [c], roles: [a, b] } }
tables: {}
`,
    [
      /^d\.yaml:5:\d+ {2}exclusive-roles {2}Role "c" brings roles that exclude each other: a and b/,
      /^d\.yaml:6:\d+ {2}exclusive-roles {2}Role "d" excludes itself/,
      /^d\.yaml:7:\d+ {2}exclusive-roles {2}Group "g" brings roles that exclude each other: a and b/,
    ],
  ],
  [
    "wrong words about giving",
    `portier: 1
people: { table: s, assignments: maybe }
roles:
  a: { exclusive: [aa], minHolders: 1.5, assignableBy: [head, e] }
  e: { scope: s, assignableBy: [a of this, f of this] }
  f: { scope: t }
tables:
  s: { key: id, fields: { id: text } }
  t: { key: id, fields: { id: text } }
`,
    [
      /^d\.yaml:2:\d+ {2}wrong-shape {2}Assignments must be true or false/,
      /^d\.yaml:4:\d+ {2}unknown-role .*Did you mean "a"/,
      /^d\.yaml:4:\d+ {2}wrong-shape {2}minHolders of role "a" must be a whole number from 0 to 1000, not 1\.5/,
      /^d\.yaml:4:\d+ {2}unknown-who {2}Unknown role or group "head"/,
      /^d\.yaml:4:\d+ {2}scoped-role/,
      /^d\.yaml:5:\d+ {2}unscoped-role/,
      /^d\.yaml:5:\d+ {2}include-across-scopes/,
    ],
  ],
  [
    "a table of a name that is taken",
    `portier: 1
people: { table: s, assignments: true }
tables:
  s: { key: id, fields: { id: text } }
  t: { key: id, fields: { id: text }, source: portier_assignments }
`,
    [/^d\.yaml:2:\d+ {2}bad-name {2}"portier_assignments" is not a valid name for a table. Assignments are kept/],
  ],
  [
    "times of a link table that are none",
    `portier: 1
people: { table: s, roles: { table: t, person: who, role: what, from: who, until: end } }
roles: { a: {} }
tables:
  s: { key: id, fields: { id: text } }
  t: { key: id, fields: { id: text, who: { reference: s }, what: text } }
`,
    [
      /^d\.yaml:2:\d+ {2}wrong-field-type {2}"who" is a reference to s, but from needs a timestamp/,
      /unknown-field .*"end"/,
    ],
  ],
  [
    "a circle of roles",
    "portier: 1\nroles: { a: { include: [b] }, b: { include: [c] }, c: { include: [a] } }\ntables: {}\n",
    [/circular-reference .*a -> b -> c -> a/],
  ],
  [
    "an unknown include",
    "portier: 1\nroles: { a: { include: [bb] }, bc: {} }\ntables: {}\n",
    [/unknown-role.*Did you mean "bc"/],
  ],
  ["a table without key", "portier: 1\ntables: { a: { fields: { id: text } } }\n", [/missing-key.*"key"/]],
  [
    "an unknown key field",
    "portier: 1\ntables: { a: { key: idd, fields: { id: text } } }\n",
    [/unknown-field.*Did you mean "id"/],
  ],
  [
    "an unknown type",
    "portier: 1\ntables: { a: { key: id, fields: { id: txt } } }\n",
    [/unknown-type.*Did you mean "text"/],
  ],
  [
    "a reference to nowhere",
    "portier: 1\ntables: { a: { key: id, fields: { id: text, b: { reference: aa } } } }\n",
    [/unknown-table.*Did you mean "a"/],
  ],
  [
    "a default that does not fit",
    "portier: 1\ntables: { a: { key: id, fields: { id: text, n: { type: integer, default: one } } } }\n",
    [/bad-default/],
  ],
  [
    "an owner that is not a person",
    "portier: 1\npeople: { table: a }\ntables: { a: { key: id, fields: { id: text } }, b: { key: id, owner: id, fields: { id: text } } }\n",
    [/not-a-person/],
  ],
  ["a time zone that is none", "portier: 1\ntimeZone: Lisbon\ntables: {}\n", [/bad-time-zone/]],
  [
    "a role's field that is not a choice or text",
    "portier: 1\npeople: { table: a, roles: n }\ntables: { a: { key: id, fields: { id: text, n: integer } } }\n",
    [/wrong-field-type/],
  ],
];

/** Mistakes that only names or conditions show: for these the JSON Schema has no words. */
const beyondSchema =
  /unknown-(table|field|who|choice|role|tag|action)|type-mismatch|misplaced-becomes|circular-reference|denied-key|bad-default|not-a-person|bad-time-zone|wrong-field-type|not-yaml|duplicate-name|exclusive-roles|not a valid name for a table/;

describe("the JSON Schema of documents", () => {
  const schema = JSON.parse(readFileSync("schema/portier.schema.json", "utf8"));
  const validate = new Ajv2020({ strict: false }).compile(schema);

  it("takes the museum, and whatever compiles", () => {
    expect(validate(parseDocument(readFileSync(museumFile, "utf8")).document), JSON.stringify(validate.errors)).toBe(
      true,
    );
    fc.assert(
      fc.property(
        fc.array(rules, { maxLength: 4 }),
        fc.array(sheetRules, { maxLength: 3 }),
        everyRules,
        groups,
        (one, sheet, every, drawn) => {
          const document = documentFrom({ rules: one, sheet, every, groups: drawn });
          expect(() => compile(document)).not.toThrow();
          expect(validate(JSON.parse(JSON.stringify(document))), JSON.stringify(validate.errors)).toBe(true);
        },
      ),
      { numRuns: runsOf(100) },
    );
  });

  it("refuses what is wrong in its shape", () => {
    const shapes = mistakes.filter(([, , [first]]) => !beyondSchema.test(String(first)));
    expect(shapes.length).toBeGreaterThan(8);
    for (const [what, text] of shapes) {
      const { document } = parseDocument(text);
      expect(validate(document), what).toBe(false);
    }
  });
});

describe("a document with mistakes", () => {
  it.each(mistakes)("%s", (_what, text, expected) => {
    const found = problemsOf(() => compileText(text, { file: "d.yaml" }));
    expect(found.length, found.join("\n")).toBe(expected.length);
    for (const [index, pattern] of expected.entries()) expect(found[index]).toMatch(pattern);
  });

  it("names all of them at once, in the order of the file", () => {
    const text = rule("{ to: keper, where: titel = 1, permit: { veiw: all, edit: [stat] } }").replace(
      "count: integer",
      "count: integr",
    );
    const found = problemsOf(() => compileText(text, { file: "d.yaml" }));
    expect(found.map((line) => line.split("  ")[1])).toEqual([
      "unknown-type",
      "unknown-who",
      "unknown-field",
      "unknown-action",
      "unknown-field",
    ]);
  });

  it("points into folded, quoted and block texts", () => {
    const place = (where: string) =>
      problemsOf(() => compileText(rule(`{ to: anyone, permit: { view: all }, ${where} }`), { file: "d" }));
    expect(place("where: \"title = 'a' and titel = 'b'\"")[0]).toMatch(/^d:14:73 /);
    const block = `${head}      one:\n        to: anyone\n        permit: { view: all }\n        where: |\n          title = 'a' and\n          titel = 'b'\n`;
    expect(problemsOf(() => compileText(block, { file: "d" }))[0]).toMatch(/^d:19:11 /);
  });

  it("cannot unfold a few lines to gigabytes", () => {
    const levels = Array.from({ length: 9 }, (_, i) => `l${i + 1}: &l${i + 1} [${`*l${i}, `.repeat(9)}]`);
    const bomb = `l0: &l0 [a, b]\n${levels.join("\n")}\n`;
    expect(problemsOf(() => parseDocument(bomb, { file: "d" }))).toEqual([
      expect.stringMatching(/^d:1:1 {2}alias-limit/),
    ]);
  });

  it("that were made at random are refused with a list, or compile; never anything else", () => {
    const museum: unknown = parseDocument(readFileSync(museumFile, "utf8")).document;
    const junk = fc.oneof(
      fc.constantFrom<unknown>(
        null,
        1,
        "",
        "all",
        "yes",
        true,
        [],
        {},
        ["all", 7],
        "constructor",
        "__proto__",
        "owner",
      ),
      fc.string({ unit: "binary", maxLength: 12 }),
      fc.jsonValue({ maxDepth: 2 }),
    );
    const steps = fc.array(fc.nat(40), { minLength: 1, maxLength: 7 });
    let refused = 0;
    fc.assert(
      fc.property(steps, junk, fc.constantFrom("replace", "remove", "rename"), (walk, value, how) => {
        const document = structuredClone(museum);
        damage(document, walk, value, how);
        refused += problemsOf(() => compile(document as Parameters<typeof compile>[0])).length > 0 ? 1 : 0;
      }),
      { numRuns: runsOf(500) },
    );
    expect(refused).toBeGreaterThan(runsOf(500) / 2);
  });
});

/** Walks into a document by numbers, and spoils what it comes to. */
function damage(document: unknown, walk: readonly number[], value: unknown, how: string): void {
  let at = document as Record<string, unknown>;
  for (const [index, number] of walk.entries()) {
    const keys = Object.keys(at);
    const key = keys[number % keys.length];
    if (key === undefined) return;
    const next = at[key];
    if (index === walk.length - 1 || typeof next !== "object" || next === null) {
      if (how === "remove") delete at[key];
      else if (how === "rename") Object.defineProperty(at, JSON.stringify(value), { value: next, enumerable: true });
      else at[key] = value;
      return;
    }
    at = next as Record<string, unknown>;
  }
}

describe("data with mistakes", () => {
  const portier = compileText(head.replace("    rules:\n", ""), { file: "d.yaml" });
  const good = `{"id":"o-1","title":"Bell","keeper":"s-1","status":"in","count":2}`;

  it.each<[string, string, string, RegExp[]]>([
    ["no JSON", "objects", "[{", [/^objects\.json:1:\d+ {2}not-json/]],
    ["no list", "objects", "{}", [/^objects\.json:1:1 {2}wrong-shape .*a list of records/]],
    ["no object", "objects", "[1]", [/^objects\.json:1:2 {2}wrong-shape/]],
    ["no key", "objects", `[\n  {"title":"Bell"}\n]`, [/^objects\.json:2:3 {2}missing-record-key/]],
    ["a null key", "objects", `[{"id":null}]`, [/missing-record-key/]],
    [
      "one that is wrong behind brackets in texts",
      "objects",
      `[{"id":"o-1","title":"a\\"],[{ \\\\"},  {"id":"o-2",\n  "count":"2"}]`,
      [/^objects\.json:2:\d+ {2}bad-value {2}"count"/],
    ],
    [
      "a key twice",
      "objects",
      `[${good},\n${good}]`,
      [/^objects\.json:2:1 {2}duplicate-record {2}Duplicate key "o-1"/],
    ],
    [
      "a wrong type",
      "objects",
      `[\n {"id":"o-1","count":"2"}]`,
      [/^objects\.json:2:\d+ {2}bad-value {2}"count" must be a whole number/],
    ],
    [
      "a wrong choice",
      "objects",
      `[{"id":"o-1","status":"on"}]`,
      [/bad-value {2}"status" must be one of in, out, not "on"/],
    ],
    ["an unknown field", "objects", `[{"id":"o-1","titel":"Bell"}]`, [/unknown-field.*Did you mean "title"/]],
    ["an unknown table", "objekts", "[]", [/unknown-table.*Did you mean "objects"/]],
    [
      "several mistakes",
      "objects",
      `[{"id":1,"count":1.5},{"status":"x"}]`,
      [/bad-value/, /bad-value/, /bad-value/, /missing-record-key/],
    ],
  ])("%s", (_what, table, text, expected) => {
    const found = problemsOf(() => readData(portier, [{ table, file: `${table}.json`, text }]));
    expect(found.length, found.join("\n")).toBe(expected.length);
    for (const [index, pattern] of expected.entries()) expect(found[index]).toMatch(pattern);
  });
});

// A file of a gigabyte was searched for the place of each of its faults, and each key of a mapping compared with each.
describe("a large file", () => {
  it("of data is given up after so many faults, the last ones with their places", () => {
    const portier = compileText(head.replace("    rules:\n", ""), { file: "d.yaml" });
    const text = `[${'\n{"id":"o-1"},'.repeat(200_000)}\n{"id":"o-2"}]`;
    const found = problemsOf(() => readData(portier, [{ table: "objects", file: "objects.json", text }]));
    expect(found).toHaveLength(1_001);
    expect(found[999]).toMatch(/^objects\.json:1002:1 {2}duplicate-record/);
    expect(found[1_000]).toMatch(/^objects\.json:1002:1 {2}more-problems .*1000/);
  });

  it("of rules is read as fast as many small ones", () => {
    const names = Array.from({ length: 100_000 }, (_, index) => `  n${index}: ${index}\n`);
    const { document } = parseDocument(`portier: 1\nwords:\n${names.join("")}`);
    expect(Object.keys((document as unknown as { words: object }).words)).toHaveLength(100_000);
  }, 60_000);
});
