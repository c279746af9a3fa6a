import { compile, type DocumentInput, type PortierError } from "portier";
import { makeReport } from "portier/report";
import { lint } from "portier/verify";
import { describe, expect, it } from "vitest";

const staffFields = { id: "text", post: { choice: ["keeper", "guide"], optional: true }, active: "boolean" };

const declared = (screens: object): DocumentInput => ({
  portier: 1,
  people: { table: "staff", roles: "post", active: "active" },
  roles: { keeper: {}, guide: {} },
  groups: { everybody: { members: ["keeper", "guide"] } },
  tables: {
    staff: { key: "id", fields: { id: "text", post: { choice: ["keeper", "guide"] }, active: "boolean" } },
    objects: {
      key: "id",
      fields: { id: "text", title: "text" },
      rules: {
        seen: { to: "anyone", where: "title <> 'secret'", permit: { view: ["title"] } },
        kept: { to: "keeper", permit: { edit: ["title"], create: "all" } },
      },
    },
  },
  screens: screens as NonNullable<DocumentInput["screens"]>,
});

const open = (screens: object, post: string | undefined, active = true) =>
  compile(declared(screens)).session({ person: post === undefined ? null : { id: "s-1", post, active } });

describe("screens", () => {
  it.each<[string, object, string | undefined, string[], string | undefined]>([
    ["are shown for what some record permits", { a: { needs: "objects.view" } }, undefined, ["a"], "a"],
    ["are shown where all is permitted", { a: { needs: ["objects.view", "objects.edit"] } }, "guide", [], undefined],
    ["are shown for one field", { a: { needs: "objects.edit.title" } }, "keeper", ["a"], "a"],
    [
      "are shown to those alone whom they are for",
      { a: { needs: "objects.view", to: "guide" } },
      "keeper",
      [],
      undefined,
    ],
    ["may be for groups", { a: { needs: "objects.view", to: "everybody" } }, "guide", ["a"], "a"],
    [
      "may need no table",
      { a: { to: "guide" }, b: { to: "keeper" }, c: { to: "signed-in" } },
      "guide",
      ["a", "c"],
      "a",
    ],
    ["may be for visitors", { a: { to: "anyone" }, b: { to: "signed-in" } }, undefined, ["a"], "a"],
    [
      "are parts of what is shown",
      { a: { needs: "objects.create" }, b: { in: "a", needs: "objects.view" } },
      "guide",
      [],
      undefined,
    ],
    [
      "are no parts of themselves",
      { a: { in: "b", needs: "objects.view" }, b: { in: "a", needs: "objects.view" } },
      "keeper",
      [],
      undefined,
    ],
    [
      "begin at the first that is home to a role, else at the first page",
      {
        p: { in: "a", needs: "objects.view" },
        a: { needs: "objects.view" },
        b: { needs: "objects.view", home: "keeper" },
      },
      "keeper",
      ["p", "a", "b"],
      "b",
    ],
    [
      "begin for others at the first page",
      {
        p: { in: "a", needs: "objects.view" },
        a: { needs: "objects.view" },
        b: { needs: "objects.view", home: "keeper" },
      },
      "guide",
      ["p", "a", "b"],
      "a",
    ],
  ])("%s", (_what, screens, post, shown, home) => {
    const session = open(screens, post);
    expect(session.screens()).toEqual(shown);
    expect(session.home()).toBe(home);
  });

  it("are for lines of people, too, and looked at by lint and report", () => {
    const document = declared({
      a: { to: "guide and below", needs: "objects.view" },
      b: { to: "everybody and 1 level above" },
    });
    const staff = {
      ...(document.tables["staff"] as object),
      fields: { ...staffFields, boss: { reference: "staff", optional: true } },
    };
    const lined = compile({
      ...document,
      people: { table: "staff", roles: "post", active: "active", manager: "boss" },
      groups: { ...document.groups, team: { members: ["guide and 2 levels below"], roles: ["keeper"] } },
      tables: { ...document.tables, staff },
    } as unknown as DocumentInput);
    const person = (id: string, post: string | null, boss: string | null) => ({ id, post, boss, active: true });
    const data = { staff: [person("1", "guide", null), person("2", null, "1"), person("3", null, "2")] };
    const shown = data.staff.map((row) => lined.session({ person: row, source: lined.source(data) }).screens());
    // Who is below a guide is in the team, which brings the keeper's role.
    expect(shown).toEqual([
      ["a", "b"],
      ["a", "b"],
      ["a", "b"],
    ]);
    expect(lint(lined).map(({ code }) => code)).not.toContain("unreachable-role");
    const { groups, screens, picture } = makeReport(lined, { title: "t" });
    expect(groups.at(-1)?.facts[0]).toBe("its members are every guide and everybody at most 2 levels below");
    expect(screens[0]?.facts).toContain("for guide and below");
    expect(picture).toContain("team");
  });

  it("are none for who is not active, and of a document without any", () => {
    const screens = { a: { needs: "objects.view" }, b: { to: "anyone" }, c: { to: "keeper" } };
    expect(open(screens, "keeper", false).screens()).toEqual([]);
    expect(open({}, "keeper").home()).toBeUndefined();
  });

  it.each<[object, string, RegExp]>([
    [{ needs: "objects" }, "bad-need", /TABLE.ACTION/],
    [{ needs: "objects.view.title.more" }, "bad-need", /TABLE.ACTION/],
    [{ needs: "object.view" }, "unknown-table", /Did you mean "objects"/],
    [{ needs: "objects.veiw" }, "unknown-action", /Did you mean "view"/],
    [{ needs: "objects.view.titel" }, "unknown-field", /Did you mean "title"/],
    [{ needs: [] }, "wrong-shape", /at least one/],
    [{}, "missing-key", /needs "needs"/],
    [{ needs: "objects.view", to: "keeper of x" }, "unknown-who", /"keeper of x"/],
    [{ needs: "objects.view", home: "gide" }, "unknown-who", /Did you mean "guide"/],
    [{ needs: "objects.view", in: "b" }, "unknown-screen", /Unknown screen "b"/],
    [{ need: "objects.view" }, "unknown-key", /Did you mean "needs"/],
  ])("that are wrong are refused with what is nearest: %#", (screen, code, message) => {
    try {
      compile(declared({ a: screen }));
    } catch (error) {
      expect((error as PortierError).problems.map((one) => one.code)).toContain(code);
      expect((error as PortierError).message).toMatch(message);
      return;
    }
    throw new Error("it compiles");
  });
});
