import fc from "fast-check";
import { compile } from "portier";
import { membersOf, personViewers } from "portier/verify";
import { describe, expect, it } from "vitest";
import { groups, house, now, worlds } from "../support/house.js";
import { portier, records, source } from "../support/museum.js";

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
    expect(() => membersOf(portier, people, "Keeper")).toThrow(/"Keeper" is no role.*did you mean "keeper"/);
  });
});

describe("members", () => {
  const names = ["junior", "senior", "clerk", "inner", "outer"];
  const fields = ["title", "status", "dept", "level", "due"];

  it("are those who may what a rule permits to them, and ways end in what gives a role or in the person's record", () => {
    fc.assert(
      fc.property(worlds, groups, (world, drawn) => {
        const rules = names.map((to, index) => ({ to: [to], permit: { edit: [fields[index] as string] } }));
        const seen = { to: "anyone", permit: { view: ["all"] } };
        const document = compile(house({ rules: [...rules, seen], groups: drawn }));
        const data = document.source({ ...world, items: [{ id: "i1" }] });
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
                  end?.startsWith("where ") ||
                  end?.startsWith("below ") ||
                  end?.startsWith("person "),
              ).toBe(true);
            }
          }
        }
      }),
      { numRuns: 200 },
    );
  });
});
