import fc from "fast-check";
import { compile } from "portier";
import { membersOf } from "portier/tooling";
import { personViewers } from "portier/verify";
import { describe, expect, it } from "vitest";
import { portier, records, source } from "../support/museum.js";
import { documentFrom, groups, now, worlds } from "../support/random-documents.js";
import { runsOf } from "../support/runs.js";

describe("members of the museum", () => {
  const people = personViewers(portier, records("staff"), { source });
  const found = (name: string) =>
    membersOf(portier, people, name).map(({ person, ways }) => [person.id, ...ways.map((way) => Object.values(way))]);

  it.each([
    ["treasurer", [["s-010", [[], "post", undefined]]]],
    [
      "lead",
      [
        ["s-003", [[], "exhibition_team", "e-1"]],
        ["s-004", [[], "exhibition_team", "e-2"]],
        ["s-012", [[], "exhibition_team", "e-5"]],
      ],
    ],
    ["ships-line", ["s-002", "s-003", "s-007", "s-014"].map((id) => [id, [["below s-002"], undefined, undefined]])],
  ])("%s", (name, expected) => {
    expect(found(name)).toEqual(expected);
  });

  it("name every step on the way", () => {
    expect(found("collections")).toContainEqual(["s-002", [["keeper", "head"], "post", undefined]]);
    expect(found("editor")).toContainEqual(["s-003", [["lead"], "exhibition_team", "e-1"]]);
  });

  it("are of a role or group that is there", () => {
    expect(() => membersOf(portier, people, "Keeper")).toThrow(/Unknown role or group "Keeper".*Did you mean "keeper"/);
  });
});

describe("members of groups that are in each other by many roads", () => {
  it("are found at once, by the shortest of them", () => {
    const depth = 40;
    const nested = Object.fromEntries(
      Array.from({ length: depth }, (_, at) => {
        const below = at === 0 ? ["clerk"] : [`l${at - 1}`, `r${at - 1}`];
        return [
          [`l${at}`, { members: below }],
          [`r${at}`, { members: below }],
        ] as const;
      }).flat(),
    );
    const document = compile({
      portier: 1,
      people: { table: "staff", roles: ["post", { table: "held", person: "who", role: "job", on: "at" }] },
      roles: { clerk: {}, guide: { scope: "halls" } },
      groups: nested,
      tables: {
        staff: { key: "id", fields: { id: "text", post: "text" } },
        halls: { key: "id", fields: { id: "text" } },
        held: {
          key: "id",
          fields: { id: "text", who: { reference: "staff" }, job: "text", at: { reference: "halls" } },
        },
      },
    });
    const staff = [
      { id: "a", post: "clerk" },
      { id: "b", post: "clerk" },
    ];
    // Where one of the records cannot be read, nothing is known of the others.
    const held = [
      { id: "1", who: "a", job: "guide", at: "h" },
      { id: "2", who: "b", job: "guide", at: 7 },
      { id: "3", who: "b", job: "guide", at: "h" },
    ];
    const people = personViewers(document, staff, { source: document.source({ staff, held, halls: [{ id: "h" }] }) });
    const [first] = membersOf(document, people, `l${depth - 1}`);
    expect(first?.ways).toHaveLength(20);
    expect(first?.ways[0]?.through).toHaveLength(depth);
    expect(
      membersOf(document, people, "guide").map(({ person, isCertain, ways }) => [person.id, isCertain, ways.length]),
    ).toEqual([
      ["a", true, 1],
      ["b", false, 0],
    ]);
  });
});

describe("members", () => {
  const names = ["junior", "senior", "clerk", "inner", "outer"];
  const fields = ["title", "status", "dept", "level", "due"];

  it("are those who may what a rule permits to them, and ways end in what assigns a role or in the person's record", () => {
    fc.assert(
      fc.property(worlds, groups, (world, drawn) => {
        const rules = names.map((to, index) => ({ to: [to], permit: { edit: [fields[index] as string] } }));
        const seen = { to: "anyone", permit: { view: ["all"] } };
        const document = compile(documentFrom({ rules: [...rules, seen], groups: drawn }));
        const data = document.source({ ...world, marks: [], items: [{ id: "i1" }] });
        const people = personViewers(document, world.staff, { source: data, request: { now } });
        for (const [index, name] of names.entries()) {
          const members = membersOf(document, people, name);
          for (const { id, session } of people.filter(({ kind }) => kind === "person")) {
            const member = members.find(({ person }) => person.id === id);
            const isPermitted = session.decide("edit", "items", { id: "i1" }, fields[index]).permitted;
            expect(member?.isCertain === true, `${id} ${name}`).toBe(isPermitted);
            expect(member?.isCertain === true && member.ways.length === 0, `${id} ${name}`).toBe(false);
            for (const { through, source: given } of member?.ways ?? []) {
              const end = through[through.length - 1];
              expect(
                given === "post" ||
                  given === "assignments" ||
                  end?.startsWith("where ") ||
                  /(^|levels |and (\d levels? )?)(above|below)( |$)/.test(end ?? "") ||
                  end?.startsWith("person "),
              ).toBe(true);
            }
          }
        }
      }),
      { numRuns: runsOf(100) },
    );
  });
});
