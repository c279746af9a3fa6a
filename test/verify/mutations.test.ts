import { readFileSync } from "node:fs";
import { compile, type DocumentInput, PortierError } from "portier";
import { parseDocument } from "portier/document";
import { mutationsOf, survivingMutations } from "portier/tooling";
import { personViewers, readExpectations } from "portier/verify";
import { describe, expect, it } from "vitest";
import { museumFile } from "../support/museum.js";

const document: DocumentInput = {
  portier: 1,
  people: { table: "staff", roles: "post" },
  roles: { keeper: {}, guide: {} },
  tables: {
    staff: { key: "id", fields: { id: "text", post: { choice: ["keeper", "guide"] }, site: "text" } },
    things: {
      key: "id",
      fields: { id: "text", title: "text", site: "text", note: "text" },
      rules: {
        shown: { to: "guide", where: "site = me.site and title starts with 'a'", permit: { view: ["title"] } },
        kept: { to: "keeper", permit: { view: ["title", "note"] } },
        hidden: { to: "keeper", except: "guide", where: "site <> me.site", deny: { view: ["note"] } },
      },
    },
  },
};
const staff = [
  { id: "k", post: "keeper", site: "north" },
  { id: "g", post: "guide", site: "north" },
];
const things = [
  { id: "1", title: "anchor", site: "north", note: "n" },
  { id: "2", title: "anvil", site: "south", note: "n" },
  { id: "3", title: "bell", site: "north", note: "n" },
  { id: "4", title: "canvas", site: "north", note: "n" },
];

const run = (expectations: readonly object[]) => {
  const sourceOf = (one: ReturnType<typeof compile>) => one.source({ staff, things });
  const records = (table: string) => ({ staff, things })[table as "staff"] ?? [];
  return survivingMutations(document, compile(document), {
    read: (one) => readExpectations(one, { expectations }),
    data: (one) => ({ source: sourceOf(one), records }),
    viewers: (one) => personViewers(one, staff, { source: sourceOf(one) }),
    records,
  });
};

const guide = { as: "g", on: { table: "things", where: "id <> '1'" }, exactly: { view: [] } };
const first = { as: "g", on: "things/1", exactly: { view: ["id", "title"] } };
const keeper = {
  as: "k",
  on: { table: "things", where: "site = 'north'" },
  exactly: { view: ["id", "title", "note"] },
};
const south = { as: "k", on: "things/2", exactly: { view: ["id", "title"] } };
const visitor = { as: "visitor", on: { table: "things", where: "true" }, exactly: { view: [] } };

describe("mistakes in rules", () => {
  it("are all of the kinds that people make", () => {
    expect([...mutationsOf(document)].map(({ rule, what }) => `${rule}: ${what}`)).toEqual([
      "things/shown: drop the rule",
      'things/shown: drop "where"',
      "things/shown: where: or instead of and",
      "things/shown: where: without site = me.site",
      "things/shown: where: <> instead of =",
      "things/shown: where: without title starts with 'a'",
      "things/shown: where: contains instead of starts with",
      "things/shown: where: turned round",
      "things/shown: to anyone",
      "things/shown: to keeper instead of guide",
      "things/shown: view: all",
      "things/kept: drop the rule",
      "things/kept: to anyone",
      "things/kept: to guide instead of keeper",
      "things/kept: view: all",
      "things/kept: view: title left out",
      "things/kept: view: note left out",
      "things/hidden: drop the rule",
      'things/hidden: drop "where"',
      "things/hidden: where: = instead of <>",
      "things/hidden: drop the exception",
      "things/hidden: to anyone",
      "things/hidden: to guide instead of keeper",
      "things/hidden: view: all",
    ]);
  });

  it("leave the document as it was, and differ from it in one rule", () => {
    const { document: museum } = parseDocument(readFileSync(museumFile, "utf8"));
    const text = JSON.stringify(museum);
    let count = 0;
    for (const { document: changed, rule, path } of mutationsOf(museum)) {
      count++;
      const [table = "", name = ""] = rule.split("/");
      expect(path.slice(0, 4)).toEqual(["tables", table, "rules", name]);
      const rest = (one: DocumentInput) =>
        JSON.stringify(one.tables, (key, value) => (key === name && "permit" in Object(value) ? undefined : value));
      expect(JSON.stringify(changed)).not.toBe(text);
      if ("permit" in Object(museum.tables[table]?.rules?.[name])) expect(rest(changed)).toBe(rest(museum));
      try {
        compile(changed);
      } catch (error) {
        expect(error).toBeInstanceOf(PortierError);
      }
    }
    expect(count).toBeGreaterThan(300);
    expect(JSON.stringify(museum)).toBe(text);
  });

  it("are detected by expectations about them", () => {
    const { tried, detected, survived, equivalent } = run([guide, first, keeper, south, visitor]);
    expect(survived.map(({ mutation: { rule, what } }) => `${rule}: ${what}`)).toEqual([]);
    expect(detected + equivalent.length).toBe(tried);
    expect(equivalent.map(({ what }) => what)).toContain("drop the exception");
  });

  it("survive where nobody said what was meant, the widest first, with whom and how many", () => {
    const { survived } = run([first, keeper, south]);
    expect(survived[0]).toMatchObject({
      mutation: { rule: "things/shown", what: 'drop "where"' },
      samples: [{ persons: ["g"], gain: { table: "things", records: 3, of: 4, fields: ["id", "title"] } }],
    });
    const gains = survived.map(({ gained }) => gained);
    expect(gains).toEqual([...gains].sort((a, b) => b - a));
    expect(survived.map(({ mutation }) => mutation.what)).toContain("where: contains instead of starts with");
  });

  it("in what a change may lead to survive, too, though no record as it is shows them", () => {
    const ends = {
      ...document,
      tables: {
        ...document.tables,
        things: {
          ...document.tables["things"],
          rules: {
            seen: { to: "keeper", permit: { view: "all" } },
            moved: { to: "keeper", becomes: "site = 'north'", permit: { edit: ["site"] } },
          },
        },
      },
    } as DocumentInput;
    const sourceOf = (one: ReturnType<typeof compile>) => one.source({ staff, things });
    const records = (table: string) => ({ staff, things })[table as "staff"] ?? [];
    const { survived } = survivingMutations(ends, compile(ends), {
      read: (one) => readExpectations(one, { expectations: [] }),
      data: (one) => ({ source: sourceOf(one), records }),
      viewers: (one) => personViewers(one, staff, { source: sourceOf(one) }),
      records,
    });
    const dropped = survived.find(({ mutation }) => mutation.what === 'drop "becomes"');
    expect(dropped).toMatchObject({ kind: "other", gained: 0, samples: [] });
  });

  it("survive an expectation that failed before", () => {
    const wrong = { ...visitor, exactly: { view: ["title"] } };
    expect(run([wrong]).detected).toBe(0);
  });
});
