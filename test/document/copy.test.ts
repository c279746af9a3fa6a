import { readFileSync } from "node:fs";
import fc from "fast-check";
import { compile, type TableInput } from "portier";
import { copyRole, copyRule, parseDocument } from "portier/document";
import { describe, expect, it } from "vitest";
import { everyRules, groups, house, now, rules } from "../support/house.js";
import { museumFile } from "../support/museum.js";

const { document } = parseDocument(readFileSync(museumFile, "utf8"));

describe("a copy", () => {
  it("of a rule differs in what it is told to", () => {
    const copied = copyRule(document, "plan/heading-is-fixed", { name: "heading-too", to: ["treasurer"] });
    compile(copied);
    const { rules } = copied.tables["plan"] as TableInput;
    expect(rules?.["heading-too"]).toEqual({ ...rules?.["heading-is-fixed"], to: "treasurer" });
    expect(() => copyRule(copied, "plan/heading-is-fixed", { name: "heading-too" })).toThrow(
      /has a rule "heading-too"/,
    );
    expect(() => copyRule(document, "plan/nothing", { name: "x" })).toThrow(/no rule "plan\/nothing"/);
    expect(() => copyRule(document, "plan/heading-is-fixed", { name: " " })).toThrow(/needs a name/);
  });

  it.each(["keeper", "registrar", "treasurer", "director", "editor"])(
    "of %s's part lets its holder do the same",
    (role) => {
      const portier = compile(copyRole(document, role, "newcomer"));
      const [one, other] = [role, "newcomer"].map((name) => portier.sessionForRoles([name]));
      for (const table of portier.schema.tables.values()) {
        for (const action of ["list", "view", "create", "edit"]) {
          for (const { name } of table.fields) {
            const expected = one?.reach(action, table.name, name);
            expect(other?.reach(action, table.name, name), `${action} ${table.name} ${name}`).toBe(expected);
          }
        }
      }
      expect(other?.screens()).toEqual(one?.screens());
    },
  );

  it("of a role's part is the same part, whatever the rules are", () => {
    const drawn = fc.record({
      rules: fc.array(rules, { minLength: 1, maxLength: 6 }),
      every: fc.option(everyRules, { nil: undefined }),
      groups: fc.option(groups, { nil: undefined }),
    });
    fc.assert(
      fc.property(drawn, fc.constantFrom("junior", "senior", "clerk", "editor", "lead"), (given, role) => {
        const portier = compile(copyRole(house(given as never), role, "newcomer"));
        const [one, other] = [role, "newcomer"].map((name) => portier.sessionForRoles([name], { request: { now } }));
        const { fields = [] } = portier.schema.tables.get("items") ?? {};
        const reaches = (session: typeof one) =>
          ["list", "view", "create", "edit", "delete"].flatMap((action) =>
            [undefined, ...(action === "delete" ? [] : fields)].map((field) =>
              session?.reach(action, "items", field?.name),
            ),
          );
        expect(reaches(other)).toEqual(reaches(one));
      }),
      { numRuns: 300 },
    );
  });

  it("of a role needs one, and a name of its own", () => {
    expect(() => copyRole(document, "kepeer", "x")).toThrow(/no role "kepeer"/);
    expect(() => copyRole(document, "keeper", "north")).toThrow(/a group "north"/);
  });
});
