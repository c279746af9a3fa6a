import { readdirSync, readFileSync } from "node:fs";
import fc from "fast-check";
import { compile, type DocumentInput, type Portier, type Row, type RuleInput } from "portier";
import { compileText } from "portier/document";
import { lint, warningCodes } from "portier/verify";
import { describe, expect, it } from "vitest";
import { printCondition } from "../../src/conditions/printer.js";
import type { Condition } from "../../src/conditions/syntax.js";
import { portier as museum } from "../support/museum.js";
import { conditions, documentFrom as drawnDocument, items, promised } from "../support/random-documents.js";
import { runsOf } from "../support/runs.js";

const documentFrom = (rules: Record<string, RuleInput>): DocumentInput => ({
  portier: 1,
  people: { table: "staff", roles: "post" },
  roles: { keeper: {}, head: {} },
  tables: {
    staff: {
      key: "id",
      fields: { id: "text", post: { choice: ["keeper", "head"] } },
      rules: { known: { to: ["keeper", "head"], permit: { view: "all" } } },
    },
    things: {
      key: "id",
      grid: { position: "row" },
      fields: { id: "text", row: "integer", title: "text", note: { type: "text", optional: true } },
      rules: { seen: { to: "keeper", permit: { view: "all" } }, ...rules },
    },
    marks: {
      key: "id",
      fields: { id: "text", thing: { reference: "things" }, level: { type: "integer", optional: true } },
      rules: { seen: { to: "keeper", permit: { view: "all" } } },
    },
  },
});

describe("a warning", () => {
  it.each<[string, Record<string, RuleInput>, string[]]>([
    ["nothing to warn about", {}, []],
    ["a person's key in a rule", { one: { to: "person s-1", permit: { edit: ["title"] } } }, ["person-in-rule"]],
    [
      "two reserves on one field",
      {
        one: { to: "keeper", reserve: { view: ["title"] } },
        two: { to: "head", reserve: { view: ["title", "note"] } },
      },
      ["overlapping-reserves"],
    ],
    [
      "two reserves on different fields",
      { one: { to: "keeper", reserve: { view: ["title"] } }, two: { to: "head", reserve: { view: ["note"] } } },
      [],
    ],
    [
      "two reserves on overlapping ranges",
      {
        one: { to: "keeper", reserve: { edit: { cells: "A1:B4" } } },
        two: { to: "head", reserve: { edit: { cells: "B4:B9" } } },
      },
      ["overlapping-reserves"],
    ],
    [
      "two reserves on ranges apart",
      {
        one: { to: "keeper", reserve: { edit: { cells: "A1:B4" } } },
        two: { to: "head", reserve: { edit: { cells: "A5:B9" } } },
      },
      [],
    ],
    [
      "a deny that relies on a record in which a null passes by",
      { one: { where: "exists (marks where thing = this and level > 2)", deny: { view: ["note"] } } },
      ["null-in-exists"],
    ],
    [
      "the same with the null spoken of",
      { one: { where: "exists (marks where thing = this)", deny: { view: ["note"] } } },
      [],
    ],
    [
      "a permit that relies on there being no such record",
      {
        one: { to: "keeper", where: "not exists (marks where thing = this and level > 2)", permit: { delete: "yes" } },
      },
      ["null-in-exists"],
    ],
    [
      "a permit that relies on a record, where a null only keeps it closed",
      { one: { to: "keeper", where: "exists (marks where thing = this and level > 2)", permit: { delete: "yes" } } },
      [],
    ],
    [
      "a deny that relies on there being no such record",
      { one: { where: "not exists (marks where thing = this and level > 2)", deny: { view: ["note"] } } },
      [],
    ],
    ["a blind edit", { one: { to: "head", permit: { edit: ["title"] } } }, ["edit-without-view"]],
    [
      "a comparison with null",
      { one: { to: "keeper", where: "note = null or title = 'a'", permit: { edit: ["title"] } } },
      ["null-comparison"],
    ],
    [
      "a list with null in it, beside a bound that none of it meets",
      { one: { to: "keeper", where: "row in (null, 1) and row > 2", permit: { edit: ["title"] } } },
      ["condition-never-true", "null-comparison"],
    ],
  ])("%s", (_what, rules, expected) => {
    expect(lint(compile(documentFrom(rules))).map(({ code }) => code)).toEqual(expected);
  });

  it("is never raised about the museum", () => {
    expect(lint(museum)).toEqual([]);
  });
});

describe("a warning about names and keys", () => {
  const screen = (to: string) => ({ screens: { labels: { needs: "things.edit.title", to } } });
  const edits: RuleInput = { to: "keeper", permit: { edit: ["title"] } };
  it.each<[string, Partial<DocumentInput>, Record<string, RuleInput>, string[]]>([
    [
      "a screen for a group of roles, one of which may",
      { groups: { museum: { members: ["keeper", "head"] } }, ...screen("museum") },
      { edits },
      [],
    ],
    [
      "a screen for a group of a group",
      { groups: { inner: { members: ["keeper"] }, outer: { members: ["inner"] } }, ...screen("outer") },
      { edits },
      [],
    ],
    [
      "a screen for a group of which none may",
      { groups: { heads: { members: ["head"] } }, ...screen("heads") },
      { edits },
      ["unreachable-screen"],
    ],
    [
      "a group that only a screen names",
      {
        groups: { all: { members: { where: "post = 'keeper'" } } },
        screens: { all: { needs: "things.view", to: "keeper", home: "all" } },
      },
      {},
      [],
    ],
    [
      "a screen for who is in two",
      { screens: { both: { needs: "things.edit.title" } } },
      { edits, kept: { to: "head", reserve: { edit: ["title"] } } },
      ["always-denied"],
    ],
    [
      "a person's key in a group",
      { groups: { line: { members: ["person s-1"], roles: ["head"] } } },
      {},
      ["person-in-rule"],
    ],
    [
      "a record's key in a condition",
      {},
      { one: { to: "keeper", where: "exists (marks where thing = 't-1')", permit: { edit: ["title"] } } },
      ["record-in-rule"],
    ],
    [
      "a record's own key in a condition",
      {},
      { one: { to: "keeper", where: "id in ('t-1', 't-2')", permit: { edit: ["title"] } } },
      ["record-in-rule"],
    ],
    [
      "a reference to the current user",
      {},
      { one: { to: "keeper", where: "exists (marks where thing = this)", permit: { edit: ["title"] } } },
      [],
    ],
  ])("%s", (_what, more, rules, codes) => {
    expect(lint(compile({ ...documentFrom(rules), ...more })).map(({ code }) => code)).toEqual(codes);
  });

  it("is not silenced by a rule of every table that permits nothing", () => {
    const document = documentFrom({});
    const bare = { key: "id", fields: { id: "text" } } as const;
    const tables = (every: RuleInput) =>
      ({ ...document.tables, bare, "*": { rules: { every } } }) as DocumentInput["tables"];
    const codes = (every: RuleInput) => lint(compile({ ...document, tables: tables(every) })).map(({ code }) => code);
    expect(codes({ to: "head", deny: { delete: "yes" } })).toContain("table-without-rules");
    expect(codes({ to: "keeper", permit: { view: ["id"] } })).not.toContain("table-without-rules");
  });
});

describe("a warning about assigning roles", () => {
  const document = (assignments: boolean, head: object): DocumentInput => ({
    ...documentFrom({}),
    people: { table: "staff", roles: "post", assignments },
    roles: { keeper: {}, head },
  });
  it.each<[string, boolean, object, string[]]>([
    ["none where roles are assigned", true, { assignableBy: "head", minHolders: 1 }, []],
    ["who gives what is never assigned", false, { assignableBy: "head" }, ["assignable-without-assignments"]],
    ["somebody must hold what nobody gives", true, { minHolders: 1 }, ["min-holders-not-assignable"]],
  ])("%s", (_what, assignments, head, codes) => {
    expect(lint(compile(document(assignments, head))).map(({ code }) => code)).toEqual(codes);
  });
});

describe("a warning that a rule never applies, or is always denied", () => {
  const known: RuleInput = { to: "anyone", permit: { list: ["title"] } };
  const person = { id: "p1", post: "senior", dept: "d1", level: 1, boss: null, tongues: ["a"], active: true };
  const permitted = (document: DocumentInput, rows: readonly Row[]) => {
    const portier = compile(document);
    const source = portier.source({ portier_assignments: [], portier_delegations: [], team: [], notes: [] });
    const session = portier.session({ person, source, request: promised });
    return rows.some((row) => session.may("delete", "items", row));
  };
  const codesOf = (document: DocumentInput, rule: string, code: string) =>
    lint(compile(document)).filter((one) => one.path.includes(rule) && one.code === code);
  const rows = fc.array(items, { minLength: 5, maxLength: 20 });
  const both = (one: Condition, other: Condition) => `(${printCondition(one)}) and (${printCondition(other)})`;

  it("is right: no record matches what it warns about", () => {
    let [warned, met] = [0, 0];
    fc.assert(
      fc.property(conditions, conditions, fc.boolean(), rows, (one, other, isTurned, records) => {
        // A test and what it was turned round into contradict each other more often than two that were drawn.
        const second: Condition = isTurned ? { kind: "not", term: one, at: 0 } : other;
        const permit: RuleInput = { to: "junior", where: both(one, second), permit: { delete: "yes" } };
        const document = drawnDocument({ rules: [permit, known] });
        const isMet = permitted(document, records);
        const isWarned = codesOf(document, "r0", "condition-never-true").length > 0;
        if (isWarned) warned++;
        if (isMet) met++;
        expect(isWarned && isMet, both(one, second)).toBe(false);
      }),
      { numRuns: runsOf(200) },
    );
    expect(warned).toBeGreaterThan(8);
    expect(met).toBeGreaterThan(8);
  });

  it("is right: nobody is permitted what is said to be always stopped", () => {
    let [warned, passed] = [0, 0];
    const whom = fc.constantFrom("anyone", "signed-in", "junior", "senior", "clerk");
    const drawn = fc.record({ a: conditions, b: conditions, blockTo: whom, permitTo: whom, wide: fc.boolean(), rows });
    fc.assert(
      fc.property(drawn, ({ a, b, blockTo, permitTo, wide, rows: records }) => {
        const block: RuleInput = { to: blockTo, where: printCondition(a), deny: { delete: "yes" } };
        const where = wide ? printCondition(b) : both(a, b);
        const document = drawnDocument({ rules: [block, { to: permitTo, where, permit: { delete: "yes" } }, known] });
        const isPermitted = permitted(document, records);
        const isWarned = codesOf(document, "r1", "always-denied").length > 0;
        if (isWarned) warned++;
        if (isPermitted) passed++;
        expect(isWarned && isPermitted, where).toBe(false);
      }),
      { numRuns: runsOf(160) },
    );
    expect(warned).toBeGreaterThan(8);
    expect(passed).toBeGreaterThan(8);
  });
});

describe("what is meant", () => {
  const lintOf = (rule: RuleInput, ignore: Partial<Record<"table" | "role", Record<string, string>>> = {}) => {
    const document = documentFrom({ blind: rule });
    const things = { ...document.tables["things"], ...(ignore.table && { ignore: ignore.table }) };
    const roles = { keeper: {}, head: ignore.role === undefined ? {} : { ignore: ignore.role } };
    const tables = { ...document.tables, things } as DocumentInput["tables"];
    return lint(compile({ ...document, roles, tables })).map(({ code }) => code);
  };
  const blind: RuleInput = { to: "head", permit: { edit: ["title"] } };
  const reason = { "edit-without-view": "Titles are dictated." };

  it.each<[string, () => string[], string[]]>([
    ["in the rule", () => lintOf({ ...blind, ignore: reason }), []],
    ["in its table", () => lintOf(blind, { table: reason }), []],
    ["but not elsewhere", () => lintOf(blind, { role: reason }), ["edit-without-view", "unused-ignore"]],
    [
      "and nothing else",
      () => lintOf({ ...blind, ignore: { "condition-never-true": "No." } }),
      ["edit-without-view", "unused-ignore"],
    ],
    [
      "by its own name",
      () => lintOf({ ...blind, ignore: { "blind-edits": "No." } }),
      ["edit-without-view", "unknown-warning"],
    ],
    // What only records show may be silenced where none are at hand.
    ["of records", () => lintOf({ ...blind, ignore: { ...reason, "mostly-null-field": "So far." } }), []],
  ])("is not warned about %s", (_where, run, codes) => expect(run()).toEqual(codes));

  it("needs a reason", () => {
    const broken = documentFrom({ blind: { ...blind, ignore: { "edit-without-view": true } as never } });
    expect(() => compile(broken)).toThrow(/ignore: edit-without-view must be a text/);
  });
});

describe("the page of a warning", () => {
  const folder = "docs/lint";
  const pages = readdirSync(folder).filter((name) => name !== "README.md");

  it("is there for each code, and in the index", () => {
    expect(pages.sort()).toEqual(warningCodes.map((code) => `${code}.md`).sort());
    const index = readFileSync(`${folder}/README.md`, "utf8");
    for (const code of warningCodes) expect(index).toContain(`[${code}](${code}.md)`);
  });

  const blocks = (text: string, language: string) =>
    [...text.matchAll(new RegExp(`\`\`\`${language}\\n([\\s\\S]*?)\`\`\``, "g"))].map(([, block]) => block ?? "");
  const recordsIn = (portier: Portier, text: string) => {
    const [json] = blocks(text, "json");
    if (json === undefined) return {};
    const tables = JSON.parse(json) as Record<string, Row[]>;
    return { data: { tables: new Map(Object.entries(tables)), source: portier.source(tables) } };
  };
  // What expectations leave out is told to lint, and not seen by it.
  it.each(warningCodes.filter((code) => code !== "untested-rule"))(
    "shows what it warns about and what not: %s",
    (code) => {
      const [bad = "", good = ""] = readFileSync(`${folder}/${code}.md`, "utf8").split("## Without the warning");
      const found = [bad, good].map((half) => {
        const portier = compileText(blocks(half, "yaml")[0] ?? "", { file: code });
        const browser = code === "needs-server";
        const screens = code === "permit-without-screen";
        return lint(portier, { ...recordsIn(portier, half), browser, screens }).map((one) => one.code);
      });
      expect(new Set(found[0])).toEqual(new Set([code]));
      expect(found[1]).toEqual([]);
    },
  );
});
