import { readdirSync, readFileSync } from "node:fs";
import { parseDocument } from "portier/document";
import { describe, expect, it } from "vitest";
import { as, museumFile, records } from "../../test/support/museum.js";
import { placeIn, wordsAt } from "../src/rules/completion.js";
import { Inspector } from "../src/worker/inspector.js";
import type { ProjectState } from "../src/worker/protocol.js";

const rules = readFileSync(museumFile, "utf8");
const folder = museumFile.replace(/[^/]*$/, "data/");
const files = readdirSync(folder).map((name) => ({
  table: name.replace(".json", ""),
  file: name,
  text: readFileSync(`${folder}${name}`, "utf8"),
}));

function project(text: string, data: ProjectState["data"] = { kind: "files", files }): ProjectState {
  return {
    document: { name: "museum.portier.yaml", text, version: "1" },
    expectations: [{ name: "museum.expect.yaml", text: "", version: "none" }],
    data,
    at: "2026-11-24",
    request: {},
  };
}

function opened(text = rules): Inspector {
  const inspector = new Inspector();
  expect(inspector.open(project(text)).remarks).toEqual([]);
  return inspector;
}

const look = (eyes: readonly string[], more: object = {}) => ({
  table: "objects",
  eyes,
  show: "seen" as const,
  search: "",
  first: 0,
  count: 10_000,
  ...more,
});

describe("what the inspector answers", () => {
  it("is what a session answers, for one and for two", () => {
    const inspector = opened();
    for (const [id, other] of [
      ["visitor", "s-005"],
      ["s-007", "s-003"],
      ["s-009", "s-001"],
    ] as const) {
      const seen = inspector.see(look([id, other]));
      const shown = [id, other].map(
        (one) => as(one === "visitor" ? undefined : one).maskAll("objects", records("objects"), "list").length,
      );
      expect(seen.exist).toEqual(shown);
      const first = seen.records.find(({ views }) => views[1] !== null);
      const cells = first?.views[1]?.filter((cell) => cell.seen) ?? [];
      const record = records("objects").find((row) => row["accession"] === first?.key);
      const session = as(other);
      for (const { field } of cells) {
        expect(session.may("list", "objects", record, field) || session.may("view", "objects", record, field)).toBe(
          true,
        );
      }
    }
    expect(inspector.see(look(["s-001"], { search: "bm-sh-0002" })).records.map(({ key }) => key)).toEqual([
      "BM-SH-0002",
    ]);
    expect(inspector.see(look(["s-001", "s-001"], { show: "differing" })).total).toBe(0);
    expect(inspector.see(look(["visitor"], { show: "all", first: 390, count: 100 })).records).toHaveLength(10);
  });

  it("goes on with the last rules that were right, and says what is wrong where", () => {
    const inspector = opened();
    const draft = inspector.draft(rules.replace("view: [title, label, material, made_in]", "view: [titel]"));
    expect(draft.compiles).toBe(false);
    expect(draft.remarks[0]).toMatchObject({ kind: "error", code: "unknown-field", hint: 'Did you mean "title"?' });
    expect(rules.split("\n")[(draft.remarks[0]?.line ?? 0) - 1]).toContain("made_in]");
    expect(inspector.see(look(["visitor"])).total).toBeGreaterThan(100);
    expect(() => inspector.add({ kind: "role", role: "keeper", name: "x" })).toThrow(/fix them first/);
  });

  it("counts who gains and loses against what is saved, and nothing once that is saved", () => {
    const inspector = opened();
    expect(inspector.differences()).toEqual({ people: [], rules: [] });
    inspector.draft(rules.replace("where: status = 'on_display'", "where: status <> 'withdrawn'"));
    const { people } = inspector.differences();
    const visitor = people.find(({ persons }) => persons.includes("visitor"));
    expect(visitor?.gains[0]).toMatchObject({ table: "objects", records: 162, of: 400 });
    expect(people.flatMap(({ losses }) => losses)).toEqual([]);
    inspector.saved();
    expect(inspector.differences()).toEqual({ people: [], rules: [] });
  });

  it("adds what holds as an expectation that passes, and fails when it does not hold any more", () => {
    const inspector = opened();
    let text = "";
    for (const [eye, key] of [
      ["s-003", "BM-SH-0001"],
      ["visitor", undefined],
    ] as const) {
      text = inspector.withExpectation(text, inspector.propose({ eye, table: "objects", key }));
    }
    const kept = inspector.withExpectation(
      `# ours\n${text}`,
      inspector.propose({ eye: "s-001", table: "plan", key: "b-01" }),
    );
    expect(kept).toMatch(/^# ours\nexpectations:\n {2}- /);
    const test = [{ name: "museum.expect.yaml", text: kept }];
    const { results, problems } = inspector.test(test);
    expect(problems).toEqual([]);
    expect(results.length).toBeGreaterThan(8);
    expect(results.filter(({ passed }) => !passed)).toEqual([]);
    expect(inspector.coverage(test).some(({ open }) => open.length > 0)).toBe(true);
    inspector.draft(rules.replace("where: status = 'on_display'", "where: status <> 'withdrawn'"));
    const after = inspector.test(test).results.filter(({ passed }) => !passed);
    expect(after.map(({ what }) => what).join()).toMatch(/visitor/);
    expect(inspector.test([{ name: "x", text: "expectations: [{ as: nobody, on: objects }]" }]).problems[0]).toMatch(
      /^x:1/,
    );
  });

  it("copies a rule, a role's part and a range into the text, whose remarks stay", () => {
    const inspector = opened();
    const remarks = (text: string) => text.match(/#.*/g);
    for (const addition of [
      { kind: "rule", address: "objects/what-is-on-display-is-public", copy: { name: "staff-too", to: ["volunteer"] } },
      { kind: "role", role: "keeper", name: "deputy" },
      { kind: "range", table: "plan", range: { name: "far", range: "B9:C9", effect: "reserve", to: ["head"] } },
    ] as const) {
      const text = inspector.add(addition);
      expect(inspector.draft(text).remarks).toEqual([]);
      expect(remarks(text)).toEqual(remarks(rules));
      expect(parseDocument(text).document).not.toEqual(parseDocument(rules).document);
      inspector.draft(rules);
    }
  });

  it("knows roles, groups, who is in them through what, and who is above whom", () => {
    const { names, line, picture } = opened().memberships();
    const assistant = names.find(({ name }) => name === "assistant");
    expect(assistant?.members.find(({ id }) => id === "s-002")?.ways[0]).toBe("head, from post");
    expect(names.find(({ name }) => name === "ships-line")?.kind).toBe("group");
    expect(picture).toMatch(/^<svg/);
    const [top] = line;
    const line3 = top?.below[0]?.below[0];
    expect([top?.name, top?.below[0]?.name, line3?.name, line3?.below[0]?.name]).toEqual([
      "Ines Okoro",
      "Bram Solheim",
      "Odalys Quint",
      "Noor Castellan",
    ]);
  });

  it("opens what is broken, and what has no records", () => {
    const inspector = new Inspector();
    expect(inspector.open(project("portier: 1\ntables: {"))).toMatchObject({ compiles: false, overview: undefined });
    expect(() => inspector.see(look(["visitor"]))).toThrow(/fix them first/);
    const mended = inspector.draft("portier: 1\ntables: { t: { key: id, fields: { id: text } } }");
    expect(mended.overview?.trouble).toMatch(
      /The records do not match the rules: departments\.json: Unknown table "departments"\. And \d+ more\./,
    );
    const none = new Inspector().open(project(rules, { kind: "none" }));
    expect(none.overview?.trouble).toMatch(/--data/);
  });
});

describe("completion", () => {
  const overview = opened().draft(rules).overview;
  const at = (text: string) => {
    const offset = text.indexOf("|");
    const place = placeIn(text.replace("|", ""), offset);
    return overview === undefined ? [] : wordsAt(place, overview).map(({ label }) => label);
  };
  const rule = (line: string) =>
    `tables:\n  objects:\n    key: accession\n    rules:\n      one:\n        to: keeper\n${line}`;

  it.each<[string, string, readonly string[], readonly string[]]>([
    ["the top", "|", ["tables", "roles"], ["keeper"]],
    ["a table's keys", "tables:\n  objects:\n    |", ["rules", "fields"], ["permit"]],
    ["a rule's keys", rule("        |"), ["where", "permit", "note"], ["title"]],
    ["whom it is for", rule("        except: |"), ["director", "ships-line", "owner"], ["title"]],
    ["a list of them", rule("        except: [keeper, |]"), ["director", "anyone"], ["title"]],
    ["a condition", rule("        where: dep|"), ["department", "me"], ["registrar"]],
    ["actions", rule("        permit: { | }"), ["view", "photograph"], ["title"]],
    ["fields", rule("        permit: { view: [title, | ] }"), ["label", "all"], ["registrar"]],
    ["fields, one a line", rule("        permit:\n          view: |"), ["label", "all"], ["registrar"]],
    ["types", "tables:\n  x:\n    fields:\n      a: |", ["text", "decimal"], ["keeper"]],
    ["a reference", "tables:\n  x:\n    fields:\n      a: { reference: | }", ["objects", "staff"], ["text"]],
    ["what a role brings", "roles:\n  chief: { include: [|] }", ["keeper"], ["title"]],
    ["what a screen needs", "screens:\n  one: { needs: | }", ["objects.view", "loans.create"], ["keeper"]],
  ])("offers %s", (_what, text, offered, others) => {
    expect(at(text)).toEqual(expect.arrayContaining([...offered]));
    for (const other of others) expect(at(text)).not.toContain(other);
  });
});
