import { compile, define, not, type Row } from "portier";
import { parseDocument } from "portier/document";
import { explain, explanationText } from "portier/explain";
import { maskedSelect, postgres, where } from "portier/sql";
import { diffAccess, personViewers } from "portier/verify";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { codesOf } from "../support/codes.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";

/** I want to share by who the owner is: "what belongs to somebody in textiles, conservators of the south building may read". */
const rulesFile = `
portier: 1
people:
  table: staff
  manager: manager
  active: active
  roles: [post, { table: exhibition_team, person: member, role: part, on: exhibition }]
  assignments: true
roles:
  keeper: {}
  conservator: {}
  head: { include: [keeper] }
  director: {}
  guest: { exclusive: [keeper] }
  editor: { scope: exhibitions }
  lead: { scope: exhibitions, include: [editor] }
groups:
  textiles: { members: [keeper], where: department = 'textiles' }
  south: { members: [{ where: site = 'south' }] }
  line: { members: [head and below] }
tables:
  staff:
    key: id
    fields:
      id: text
      post: { choice: [keeper, conservator, head, director], optional: true }
      department: { type: text, optional: true }
      site: { choice: [north, south], optional: true }
      manager: { reference: staff, optional: true }
      active: boolean
      salary: { type: integer, optional: true }
    rules:
      all-but-the-director: { to: director and 1 level below, where: this is not director, permit: { view: all } }
  exhibitions: { key: id, fields: { id: text, lead: { reference: staff, optional: true } } }
  exhibition_team:
    key: [exhibition, member]
    fields: { exhibition: { reference: exhibitions }, member: { reference: staff }, part: { choice: [editor, lead] } }
  objects:
    key: id
    owner: keeper
    fields:
      id: text
      keeper: { reference: staff, optional: true }
      helpers: { list: { reference: staff }, optional: true }
      exhibition: { reference: exhibitions, optional: true }
      note: { type: text, optional: true }
      value: { type: integer, optional: true }
    rules:
      textiles-are-shared:
        to: conservator
        where: owner is textiles and me is south
        permit: { view: [id, keeper] }
      shown-by-its-lead: { to: conservator, where: owner is lead of exhibition, permit: { view: note } }
      of-the-line: { to: director, where: keeper is line or helpers is line, permit: { view: value } }
      nothing-of-guests: { where: owner is guest, deny: { view: all } }
`;

const person = (id: string, post: string | null, more: Row = {}): Row => ({
  ...{ id, post, department: null, site: null, manager: null, active: true, salary: 1 },
  ...more,
});

const data = {
  staff: [
    person("ines", "director"),
    person("bram", "head", { manager: "ines", department: "ships" }),
    person("odalys", "keeper", { manager: "bram", department: "ships" }),
    person("wren", "keeper", { manager: "ines", department: "textiles", site: "south" }),
    person("liv", "keeper", { department: "textiles", active: false }),
    person("noor", null, { manager: "odalys" }),
    person("petra", "conservator", { site: "south" }),
    person("nils", "conservator", { site: "north" }),
  ],
  exhibitions: [{ id: "e1", lead: "wren" }],
  exhibition_team: [
    { exhibition: "e1", member: "wren", part: "lead" },
    { exhibition: "e1", member: "odalys", part: "editor" },
  ],
  objects: [
    { id: "o1", keeper: "wren", helpers: [], exhibition: "e1", note: "n", value: 1 },
    { id: "o2", keeper: "odalys", helpers: null, exhibition: "e1", note: "n", value: 1 },
    { id: "o3", keeper: "liv", helpers: ["gone", "noor"], exhibition: null, note: "n", value: 1 },
    { id: "o4", keeper: null, helpers: ["wren"], exhibition: "e1", note: "n", value: 1 },
    { id: "o5", keeper: "noor", helpers: null, exhibition: null, note: "n", value: 1 },
    { id: "o6", keeper: "gone", helpers: null, exhibition: "e1", note: "n", value: 1 },
  ],
  portier_assignments: [
    {
      id: "a1",
      person: "noor",
      role: "guest",
      on: null,
      from: null,
      until: "2027-01-01T00:00:00Z",
      assignedBy: null,
      reason: null,
    },
    {
      id: "a2",
      person: "odalys",
      role: "lead",
      on: "e1",
      from: "2027-01-01T00:00:00Z",
      until: null,
      assignedBy: null,
      reason: null,
    },
  ],
  portier_delegations: [],
};

const portier = compile(parseDocument(rulesFile).document);
const at = (now: string) => ({ source: portier.source(data), request: { now } });
const december = "2026-12-01T00:00:00Z";
const june = "2027-06-01T00:00:00Z";

/** What each of them sees, by field, as the ids of the objects. */
const cases: readonly (readonly [who: string, now: string, seen: Readonly<Record<string, string>>])[] = [
  // Liv has left, o4 belongs to nobody, o6 to somebody who is not there: none of them is in textiles for certain.
  ["petra", december, { id: "o1", keeper: "o1", note: "o1" }],
  ["petra", june, { id: "o1 o2", keeper: "o1", note: "o1 o2" }],
  ["nils", june, { id: "o1 o2", keeper: "", note: "o1 o2" }],
  // Noor is a guest until January: what is theirs is denied, and so is what belongs to nobody.
  ["ines", december, { id: "o2 o3", value: "o2 o3" }],
  ["ines", june, { id: "o2 o3 o5", value: "o2 o3 o5" }],
];

/** The ids of the objects of which somebody sees a field. */
function seenOf(field: string, rows: readonly Row[]): string {
  return rows
    .filter((row) => Object.hasOwn(row, field))
    .map((row) => row["id"] as string)
    .sort()
    .join(" ");
}

describe("sharing by who somebody else is", () => {
  it.each(cases)("%s sees at %s what the rules say", (who, now, seen) => {
    const session = portier.session({ person: who, ...at(now) });
    const rows = data.objects.map((row) => session.mask("objects", row) ?? {});
    for (const [field, ids] of Object.entries(seen)) expect(seenOf(field, rows), field).toBe(ids);
  });

  it("lets those on a line of people see, as far as it goes", () => {
    const seen = (who: string) => {
      const session = portier.session({ person: who, ...at(june) });
      return data.staff.filter((row) => session.mask("staff", row)).map(({ id }) => id);
    };
    // Liv has left, and would not be the director if she had not.
    const all = data.staff.map(({ id }) => id).filter((id) => id !== "ines");
    expect(seen("ines")).toEqual(all);
    expect(seen("wren")).toEqual(all);
    expect(seen("odalys")).toEqual([]);
  });

  it("is seen in what a change of a group comes to, though no rule names it in to", () => {
    const other = compile(parseDocument(rulesFile.replace("department = 'textiles'", "department = 'ships'")).document);
    const [before, after] = [portier, other].map((one) =>
      personViewers(one, data.staff, { source: one.source(data), request: { now: december } }),
    );
    const found = diffAccess(before ?? [], after ?? [], (table) => data[table as "objects"] ?? []);
    const counts = found.find(({ persons }) => persons.includes("petra"));
    expect(counts?.gains.map(({ table, records }) => [table, records])).toContainEqual(["objects", 1]);
    expect(counts?.losses.map(({ table, records }) => [table, records])).toContainEqual(["objects", 1]);
  });

  it("says in an explanation who was looked at, and what they are", () => {
    const session = portier.session({ person: "petra", ...at(june) });
    const [object] = data.objects;
    const explanation = explain(session, { table: "objects", action: "view", field: "id", record: object as Row });
    const text = explanationText(explanation, "petra", "view id of o1");
    expect(text).toContain("keeper is textiles");
  });

  it.each([
    ["note is textiles", "not-a-person"],
    ["keeper is tetxiles", "unknown-who"],
    ["keeper is lead", "scoped-role"],
    ["keeper is keeper of exhibition", "unscoped-role"],
    ["keeper is lead of keeper", "wrong-scope"],
    ["helpers is lead of exhibition", "wrong-shape"],
    ["exists (exhibitions where me is lead of this.exhibition)", "misplaced-member"],
    ["12 is textiles", "condition-syntax"],
    ["keeper is lead of 'e1'", "condition-syntax"],
  ])("%s is refused: %s", (where, code) => {
    const text = rulesFile.replace("owner is guest", where);
    expect(codesOf(text)).toEqual([code]);
  });

  it.each([
    ["members: [head and below]", "members: [head and 0 levels below]", "unknown-who"],
    ["members: [head and below]", "members: [lead and below]", "scoped-role"],
    ["members: [head and below]", "members: [{ below: bram, levels: 0 }]", "bad-value"],
    ["members: [head and below]", "members: [{ below: bram, above: ines }]", "wrong-shape"],
    ["members: [head and below]", "members: [{ where: me is keeper }]", "misplaced-member"],
    ["members: [head and below]", "members: [{ where: manager is line }]", "circular-reference"],
    ["members: [head and below]", "members: [line and above]", "circular-reference"],
    ["  manager: manager\n", "", "no-manager"],
    ["to: director and 1 level below", "to: director and 1 level beside", "unknown-who"],
  ])("%s written as %s is refused: %s", (before, after, code) => {
    expect(new Set(codesOf(rulesFile.replace(before, after)))).toContain(code);
  });

  // Assignments name records by texts, whatever their keys are.
  const numbered = compile({
    portier: 1,
    people: { table: "staff", manager: "boss", assignments: true },
    roles: { head: {}, lead: { scope: "shows" } },
    groups: { line: { members: ["head and 1 level below", { above: "4", levels: 1 }] } },
    tables: {
      staff: { key: "id", fields: { id: "integer", boss: { reference: "staff", optional: true } } },
      shows: { key: "id", fields: { id: "integer" } },
      objects: {
        key: "id",
        fields: {
          id: "integer",
          keeper: { reference: "staff", optional: true },
          show: { reference: "shows", optional: true },
          a: { type: "text", optional: true },
          b: { type: "text", optional: true },
          c: { type: "text", optional: true },
        },
        rules: {
          of: { to: "anyone", where: "keeper is lead of show", permit: { view: ["a"] } },
          not: { to: "anyone", where: "keeper is not lead of show", permit: { view: ["b"] } },
          line: { to: "anyone", where: "keeper is line", permit: { view: ["c"] } },
        },
      },
    },
  });
  const assigned = (id: string, person: number, role: string, on: string | null) => ({
    ...{ id, person, role, on, from: null, until: null, assignedBy: null, reason: null },
  });
  const numbers = {
    staff: [1, 2, 3, 4, 5].map((id) => ({ id, boss: id === 1 ? null : id === 5 ? 4 : id - 1 })),
    shows: [{ id: 7 }, { id: 70 }],
    objects: [1, 2, 3, 4, 5].flatMap((keeper) =>
      [7, 70, null].map((show, at) => ({ id: keeper * 10 + at, keeper, show, a: "a", b: "b", c: "c" })),
    ),
    portier_assignments: [
      assigned("1", 2, "lead", "7"),
      assigned("2", 3, "lead", "70"),
      assigned("3", 1, "head", null),
    ],
    portier_delegations: [],
  };
  const ofNumbers = { a: "20 31", b: "10 11 21 30 40 41 50 51", c: "10 11 12 20 21 22 30 31 32 40 41 42" };
  const shownOf = (rows: readonly Row[]) =>
    Object.fromEntries(
      ["a", "b", "c"].map((field) => [
        field,
        seenOf(
          field,
          rows.map((row) => ({ ...row, id: String(row["id"]) })),
        ),
      ]),
    );

  it("is put together with names that the compiler checks", () => {
    const shape = define({
      portier: 1,
      people: { table: "staff", roles: "post", manager: "boss" },
      roles: { keeper: {}, lead: { scope: "shows" } },
      groups: { textiles: { members: ["keeper and 2 levels below", { above: "wren", levels: 1 }] } },
      tables: {
        staff: {
          key: "id",
          fields: { id: "text", post: { choice: ["keeper"] }, boss: { reference: "staff", optional: true } },
        },
        shows: { key: "id", fields: { id: "text" } },
        objects: {
          key: "id",
          owner: "keeper",
          fields: { id: "text", keeper: { reference: "staff", default: "me" }, show: { reference: "shows" } },
        },
      },
    } as const);
    const built = shape.rules({
      objects: {
        shared: {
          to: ["keeper and below", "textiles and 1 level above"],
          where: ({ record, isMember }) =>
            isMember(record.keeper, "textiles").or(not(isMember(record.keeper.boss, "lead", record.show))),
          permit: { view: ["keeper"], create: ["all", "owner"] },
        },
        // @ts-expect-error: there is no such role
        wrong: { to: ["keper and below"], permit: { view: ["keeper"] } },
      },
    });
    expect(built.tables["objects"]?.rules?.["shared"]?.where).toBe(
      "keeper is textiles or not keeper.boss is lead of show",
    );
    shape.rules({
      objects: {
        wrong: {
          to: "keeper",
          // @ts-expect-error: there is no such group
          where: ({ record, isMember }) => isMember(record.keeper, "textile"),
          permit: { view: "all" },
        },
      },
    });
  });

  it("is refused in SQL where a database cannot put together what assignments call a record", () => {
    const shows = { key: ["id", "year"], fields: { id: "integer", year: "integer" } } as const;
    const composite = compile({
      portier: 1,
      people: { table: "staff", assignments: true },
      roles: { lead: { scope: "shows" } },
      tables: {
        staff: { key: "id", fields: { id: "text" } },
        shows,
        objects: {
          key: "id",
          fields: { ...shows.fields, keeper: { reference: "staff" }, show: { reference: "shows", by: ["id", "year"] } },
          rules: {
            all: { to: "anyone", permit: { view: ["keeper"] } },
            of: { where: "keeper is lead of show", deny: { view: "all" } },
          },
        },
      },
    });
    const data = {
      staff: [{ id: "wren" }],
      portier_assignments: [{ ...assigned("1", 0, "lead", "7/2027"), person: "wren" }],
    };
    const session = composite.session({ source: composite.source(data) });
    const record = { id: 7, year: 2027, keeper: "wren" };
    expect(session.decide("view", "objects", record, "keeper").reason).toBe("denied");
    expect(session.decide("view", "objects", { ...record, year: 2028 }, "keeper").permitted).toBe(true);
    expect(() => where(session, "objects", "view", postgres)).toThrow(/a key of several fields/);
  });

  it("goes by numbers as by texts", () => {
    const session = numbered.session({ source: numbered.source(numbers) });
    expect(shownOf(numbers.objects.map((row) => session.mask("objects", row) ?? {}))).toEqual(ofNumbers);
  });

  it.each(Object.entries(engines))("goes by numbers as by texts on %s", async (_name, open) => {
    const engine = await open();
    try {
      await createTables(engine, numbered.schema);
      await storeAll(engine, numbered.schema, numbers);
      const select = maskedSelect(numbered.session(), "objects", engine.dialect, { action: "view" });
      expect(shownOf((await engine.run(select.text, select.params)).map(select.unmask))).toEqual(ofNumbers);
    } finally {
      await engine.close();
    }
  });

  describe.each(Object.entries(engines))("on %s", (_name, open) => {
    let engine: Engine;
    beforeAll(async () => {
      engine = await open();
      await createTables(engine, portier.schema);
      await storeAll(engine, portier.schema, data);
    });
    afterAll(() => engine?.close());

    it.each(cases)("%s sees at %s the same", async (who, now, seen) => {
      const session = portier.session({ person: who, ...at(now) });
      const select = maskedSelect(session, "objects", engine.dialect, { action: "view" });
      const rows = (await engine.run(select.text, select.params)).map(select.unmask);
      for (const [field, ids] of Object.entries(seen)) expect(seenOf(field, rows), field).toBe(ids);
    });
  });
});
