import {
  compile,
  type DocumentInput,
  type PortierError,
  type Row,
  type RuleInput,
  type Session,
  type Source,
  snapshotOf,
  type TableInput,
} from "portier";
import { explain, explanationText } from "portier/explain";
import { openSnapshot } from "portier/snapshot";
import { describe, expect, it } from "vitest";

// What the random tests of the model do not reach: each case names the sentence that it holds.

type Tables = Readonly<Record<string, TableInput>>;

const staff = {
  key: "id",
  owner: "id",
  fields: {
    id: "text",
    posts: { list: "text", optional: true },
    boss: { reference: "staff", optional: true },
    level: { type: "integer", optional: true },
  },
} as const satisfies TableInput;

function declared(tables: Tables, more: Partial<DocumentInput> = {}): DocumentInput {
  return {
    portier: 1,
    people: { table: "staff", manager: "boss", roles: "posts" },
    roles: { keeper: {}, head: {}, editor: { scope: "shows" } },
    ...more,
    tables: { staff, shows: { key: "id", fields: { id: "text" } }, ...tables },
  };
}

const people: Row[] = [
  { id: "p1", posts: ["keeper"], boss: "p2", level: 1 },
  { id: "p2", posts: ["head"], boss: null, level: 2 },
  { id: "p3", posts: [], boss: "p1", level: null },
];

function as(person: string | undefined, document: DocumentInput, data: Record<string, Row[]> = {}): Session {
  const portier = compile(document);
  const options = person === undefined ? {} : { person };
  return portier.session({ ...options, source: portier.source({ staff: people, ...data }) });
}

const table = (rules: Record<string, RuleInput>, more: Partial<TableInput> = {}): TableInput => ({
  key: "id",
  fields: { id: "text", title: { type: "text", optional: true }, keeper: { reference: "staff", optional: true } },
  ...more,
  rules,
});

describe("owners", () => {
  const shared = declared({
    things: table(
      {
        theirs: { to: "owner", permit: { view: "all", edit: ["title"] } },
        above: { to: "above owner", permit: { list: ["title"] } },
        make: { to: "signed-in", permit: { create: ["id", "title"], view: ["id"] } },
        listed: { to: "head", where: "me in owner", permit: { delete: "yes" } },
      },
      {
        owner: "keepers",
        fields: {
          id: "text",
          title: { type: "text", optional: true },
          keepers: { list: { reference: "staff" }, optional: true },
        },
      },
    ),
  });
  const thing = (keepers: unknown) => ({ id: "t", title: "a", keepers });

  it.each<[string, unknown, boolean]>([
    ["p1", ["p1"], true],
    ["p1", ["p3", "p1"], true],
    ["p1", ["p2"], false],
    ["p1", [], false],
    ["p1", null, false],
    ["p1", ["p1", 7], false],
  ])("may be several: %s and %j: %s", (person, keepers, owns) => {
    expect(as(person, shared).may("edit", "things", thing(keepers), "title")).toBe(owns);
  });

  it("are each looked up the manager line", () => {
    expect(as("p2", shared).may("list", "things", thing(["p3"]), "title")).toBe(true);
    expect(as("p1", shared).may("list", "things", thing(["p2", "p3"]), "title")).toBe(true);
    expect(as("p3", shared).may("list", "things", thing(["p1", "p2"]), "title")).toBe(false);
    expect(as("p2", shared).may("delete", "things", thing(["p2"]))).toBe(true);
    expect(as("p2", shared).may("delete", "things", thing(["p1"]))).toBe(false);
  });

  it("of what a person makes are that person: a list of them, not judged", () => {
    expect(as("p1", shared).checkCreate("things", { id: "n" })).toMatchObject({ record: { keepers: ["p1"] } });
    expect(as("p1", shared).checkCreate("things", { id: "n", keepers: ["p1"] }).accepted).toBe(true);
    expect(as("p1", shared).checkCreate("things", { id: "n", keepers: ["p2"] }).accepted).toBe(false);
  });

  it("may be found along a path of references", () => {
    const parts = declared({
      things: table({ seen: { to: "signed-in", permit: { view: "all" } } }),
      parts: {
        key: "id",
        owner: "thing.keeper",
        fields: { id: "text", thing: { reference: "things", optional: true } },
        rules: { theirs: { to: "owner", permit: { view: "all" } } },
      },
    });
    const data = { things: [{ id: "t1", title: null, keeper: "p1" }] };
    expect(as("p1", parts, data).mask("parts", { id: "x", thing: "t1" })).toEqual({ id: "x", thing: "t1" });
    expect(as("p2", parts, data).mask("parts", { id: "x", thing: "t1" })).toBeUndefined();
    expect(as("p1", parts, data).mask("parts", { id: "x", thing: "gone" })).toBeUndefined();
    expect(as("p1", parts, data).reach("view", "parts")).toBe("own");
  });
});

describe("keys of several fields", () => {
  const rooms = declared({
    rooms: {
      key: ["floor", "name"],
      fields: { floor: "integer", name: "text", open: "boolean" },
      rules: {
        open: { to: "signed-in", where: "open = true", permit: { view: "all" } },
        busy: { to: "head", where: "exists (visits where room = this)", permit: { view: "all" } },
      },
    },
    visits: {
      key: "id",
      fields: {
        id: "text",
        floor: { type: "integer", optional: true },
        name: { type: "text", optional: true },
        room: { reference: "rooms", by: ["floor", "name"] },
        is_open: { lookup: { through: "room", field: "open" } },
      },
      rules: {
        seen: { to: "keeper", permit: { view: ["room", "floor", "is_open"], edit: ["floor", "name"] } },
        names: { to: "keeper", where: "room <> '1/b%2Fc'", permit: { view: ["name"] } },
        through: { to: "head", where: "room.open = true", permit: { view: "all" } },
      },
    },
  });
  const data = {
    rooms: [
      { floor: 1, name: "a", open: true },
      { floor: 1, name: "b/c", open: false },
    ],
    visits: [{ id: "v", floor: 1, name: "b/c" }],
  };

  it("make an address that a composite reference holds, shown only where all its parts are", () => {
    const session = as("p1", rooms, data);
    expect(session.mask("visits", { id: "v", floor: 1, name: "a" })).toEqual({
      id: "v",
      floor: 1,
      name: "a",
      room: "1/a",
      is_open: true,
    });
    expect(session.mask("visits", { id: "v", floor: 1, name: "b/c" })).toEqual({ id: "v", floor: 1 });
    expect(session.mask("visits", { id: "v", floor: null, name: "a" })).toMatchObject({ id: "v", floor: null });
  });

  it("are followed by paths and by exists", () => {
    expect(as("p2", rooms, data).may("view", "visits", { id: "v", floor: 1, name: "a" })).toBe(true);
    expect(as("p2", rooms, data).may("view", "visits", { id: "v", floor: 1, name: "b/c" })).toBe(false);
    expect(as("p2", rooms, data).may("view", "rooms", data.rooms[1])).toBe(true);
    expect(as("p1", rooms, data).may("view", "rooms", data.rooms[1])).toBe(false);
  });

  it("must lead to a known record when one of their parts changes", () => {
    const session = as("p1", rooms, data);
    const stored = { id: "v", floor: 1, name: null };
    expect(session.checkEdit("visits", stored, { name: "a" })).toMatchObject({ accepted: true });
    for (const name of ["b/c", "zzz"]) {
      expect(session.checkEdit("visits", stored, { name })).toMatchObject({
        accepted: false,
        refusals: [{ field: "name", reason: "no-such-record" }],
      });
    }
  });
});

describe("a key that also makes up a reference", () => {
  it("goes out with what goes out, and the reference with it", () => {
    const document = declared({
      rooms: { key: ["floor", "name"], fields: { floor: "integer", name: "text" } },
      doors: {
        key: ["floor", "name"],
        fields: { floor: "integer", name: "text", room: { reference: "rooms", by: ["floor", "name"] }, color: "text" },
        rules: { all: { to: "signed-in", permit: { view: "all", export: ["room", "color"] } } },
      },
    });
    const door = { floor: 1, name: "a", color: "red" };
    expect(as("p1", document).mask("doors", door, "export")).toEqual({ ...door, room: "1/a" });
    for (const field of ["floor", "room", "color"])
      expect(as("p1", document).may("export", "doors", door, field), field).toBe(true);
  });
});

describe("conditions on other records", () => {
  const nested = declared({
    things: table({
      deep: {
        to: "keeper",
        where: "exists (marks where thing = this and exists (marks where level > 1 and thing = this))",
        permit: { view: ["title"] },
      },
      mine: { to: "head", where: "exists (marks where me = writer and thing = this.id)", permit: { view: ["keeper"] } },
    }),
    marks: {
      key: "id",
      fields: {
        id: "text",
        thing: { reference: "things", optional: true },
        writer: { reference: "staff", optional: true },
        level: { type: "integer", optional: true },
      },
    },
  });
  const marks = (...rows: object[]) => ({
    marks: rows.map((row, index) => ({ id: `m${index}`, thing: "t", writer: null, level: null, ...row })),
  });
  const thing = { id: "t", title: "a", keeper: null };

  it("nest, and `this` stays the record that the rule is about", () => {
    expect(as("p1", nested, marks({ level: 2 })).may("view", "things", thing, "title")).toBe(true);
    expect(as("p1", nested, marks({ level: 1 })).may("view", "things", thing, "title")).toBe(false);
    expect(as("p1", nested, marks({ level: 2, thing: "u" }, {})).may("view", "things", thing, "title")).toBe(false);
  });

  it("are false without rows, and need what a source can give", () => {
    expect(as("p2", nested, marks({ writer: "p2" })).may("view", "things", thing, "keeper")).toBe(true);
    expect(as("p2", nested, marks({ writer: null })).may("view", "things", thing, "keeper")).toBe(false);
    const portier = compile(nested);
    const diagnostics: string[] = [];
    const session = portier.session({
      person: people[0] as Row,
      source: { find: () => undefined },
      onDiagnostic: ({ message }) => diagnostics.push(message),
    });
    expect(session.decide("view", "things", thing, "title")).toEqual({ permitted: false, reason: "fault" });
    expect(diagnostics[0]).toContain('needs "referring" of the source');
  });
});

describe("lookups", () => {
  const chain = declared({
    shows: {
      key: "id",
      fields: { id: "text", title: "text", host: { reference: "staff", optional: true } },
      rules: {
        titles: { to: "keeper", permit: { view: ["title"], export: ["title"] } },
        all: { to: "head", permit: { view: "all" } },
      },
    },
    things: {
      key: "id",
      fields: {
        id: "text",
        show: { reference: "shows", optional: true },
        show_title: { lookup: { through: "show", field: "title" } },
        show_host: { lookup: { through: "show", field: "host" } },
        host_level: { lookup: { through: "show_host", field: "level" } },
      },
      rules: {
        seen: { to: "signed-in", permit: { view: "all", export: "all" } },
        leveled: { to: "signed-in", where: "host_level = 2", permit: { delete: "yes" } },
      },
    },
  });
  const shows = [{ id: "s", title: "Tide", host: "p2" }];
  const thing = (show: string | null) => ({ id: "t", show });

  it.each<[string, string | null, object]>([
    ["p1", "s", { show_title: "Tide" }],
    ["p1", null, { show_title: null, show_host: null, host_level: null }],
    ["p1", "gone", {}],
    ["p2", "s", { show_title: "Tide", show_host: "p2" }],
    ["p3", "s", {}],
  ])("show what may be seen where it comes from: %s, through %s", (person, show, expected) => {
    expect(as(person, chain, { shows }).mask("things", thing(show))).toEqual({ id: "t", show, ...expected });
  });

  it("go out only where what they show does", () => {
    expect(as("p1", chain, { shows }).mask("things", thing("s"), "export")).toEqual({
      id: "t",
      show: "s",
      show_title: "Tide",
    });
    expect(as("p2", chain, { shows }).mask("things", thing("s"), "export")).toEqual({ id: "t", show: "s" });
  });

  it("may be read by conditions at any depth, and hide themselves alone when their source fails", () => {
    expect(as("p1", chain, { shows }).may("delete", "things", thing("s"))).toBe(true);
    const diagnostics: unknown[] = [];
    const session = compile(chain).session({
      person: people[0] as Row,
      onDiagnostic: (diagnostic) => diagnostics.push(diagnostic.kind),
    });
    expect(session.mask("things", thing("s"))).toEqual({ id: "t", show: "s" });
    expect(diagnostics).toEqual(["fault", "fault", "fault"]);
  });
});

describe("roles and groups", () => {
  const grouped = declared(
    {
      things: table({
        one: { to: "inner", permit: { view: ["title"] } },
        two: { to: "boss", permit: { view: ["keeper"] } },
      }),
    },
    {
      roles: { keeper: {}, head: {}, boss: { include: ["keeper"] } },
      groups: {
        inner: { members: ["outer"], without: "person p3" },
        outer: { members: [{ below: "p1" }, "head"], roles: ["boss"] },
      },
    },
  );
  const thing = { id: "t", title: "a", keeper: null };

  it("nest, and bring roles; the explanation says through what", () => {
    expect(as("p1", grouped).may("view", "things", thing, "title")).toBe(true);
    expect(as("p3", grouped).may("view", "things", thing, "title")).toBe(false);
    expect(as("p3", grouped).may("view", "things", thing, "keeper")).toBe(true);
    const session = as("p2", grouped);
    expect(session.roles).toEqual(["boss", "head", "keeper"]);
    const text = explanationText(
      explain(session, { action: "view", table: "things", record: thing, field: "title" }),
      "p2",
      "t",
    );
    expect(text).toContain("inner (through outer, head)  -> they are");
  });

  it.each<[string, Partial<DocumentInput>, RegExp]>([
    [
      "a scoped role without a record",
      { tables: { things: table({ x: { to: "editor", permit: { view: "all" } } }), shows: table({}) } },
      /scoped-role/,
    ],
    [
      "a global role on a record",
      { tables: { things: table({ x: { to: "keeper of keeper", permit: { view: "all" } } }), shows: table({}) } },
      /unscoped-role/,
    ],
    [
      "a role of another scope",
      { tables: { things: table({ x: { to: "editor of keeper", permit: { view: "all" } } }), shows: table({}) } },
      /wrong-scope/,
    ],
    [
      "an include across scopes",
      { roles: { editor: { scope: "shows" }, boss: { include: ["editor"] } }, tables: { shows: table({}) } },
      /include-across-scopes/,
    ],
    [
      "a circle of groups",
      { groups: { a: { members: ["b"] }, b: { members: ["a"] } }, tables: {} },
      /circular-reference .*a -> b -> a/,
    ],
    ["a group called as a role", { groups: { keeper: { members: [] } }, tables: {} }, /duplicate-name/],
    [
      "a group that brings a role that is none",
      { groups: { a: { members: [], roles: ["keepr"] } }, tables: {} },
      /unknown-role .*Did you mean "keeper"/,
    ],
    [
      "a group that brings a scoped role",
      { groups: { a: { members: [], roles: ["editor"] } }, tables: {} },
      /scoped-role/,
    ],
    ["confirm on view", { tables: { things: table({ x: { confirm: { view: "all" } } }) } }, /misplaced-confirm/],
    [
      "alsoAfter on a permit",
      { tables: { things: table({ x: { to: "anyone", alsoAfter: true, permit: { edit: "all" } } }) } },
      /misplaced-also-after/,
    ],
    ["may in a group", { groups: { a: { members: [{ where: "may view boss" }] } }, tables: {} }, /misplaced-may/],
    [
      "a type that leads back to itself",
      { tables: { a: { key: "b", fields: { b: { reference: "a" } } } } },
      /circular-type/,
    ],
    [
      "an isolation rule that misses a table",
      { tables: { "*": { rules: { wall: { where: "tenant <> me", deny: { view: "all" } } } }, things: table({}) } },
      /unknown-field .*"tenant"/,
    ],
    [
      "a table that is skipped and is none",
      { tables: { "*": { rules: { wall: { deny: { view: "all" }, skip: ["thing"] } } }, things: table({}) } },
      /unknown-table .*Did you mean "things"/,
    ],
  ])("are refused when they cannot be meant: %s", (_what, more, message) => {
    expect(() => compile(declared((more.tables ?? {}) as Tables, { ...more, tables: undefined } as never))).toThrow(
      message,
    );
  });

  it("that do not exist keep a session from opening", () => {
    let code: string | undefined;
    try {
      compile(grouped).session({ person: { id: "p9", posts: ["Keeper"] } });
    } catch (error) {
      code = (error as PortierError).code;
    }
    expect(code).toBe("unknown-role");
  });
});

describe("walls and instants", () => {
  const walled = declared(
    {
      "*": {
        rules: {
          wall: {
            where: "keeper <> me",
            alsoAfter: true,
            deny: { view: "all", edit: "all" },
            skip: ["staff", "shows"],
          },
        },
      } as never,
      things: table({
        all: { to: "signed-in", permit: { view: "all", edit: ["all", "keeper"] } },
        spring: { from: "2027-03-28", until: "2027-03-29", to: "signed-in", permit: { delete: "yes" } },
      }),
    },
    { timeZone: "Europe/Lisbon" },
  );
  const mine = { id: "t", title: "a", keeper: "p1" };

  it("hold before and after: what is behind a wall neither leaves nor enters", () => {
    const session = as("p1", walled);
    expect(session.checkEdit("things", mine, { title: "b" }).accepted).toBe(true);
    expect(session.checkEdit("things", mine, { keeper: "p2" })).toMatchObject({ accepted: false });
    expect(session.checkEdit("things", { ...mine, keeper: "p2" }, { title: "b" })).toMatchObject({
      reason: "not-found",
    });
    // Null is unknown, and unknown is behind the wall.
    expect(session.may("view", "things", { ...mine, keeper: null })).toBe(false);
  });

  it.each([
    ["2027-03-27T23:59:59Z", false],
    ["2027-03-28T00:00:00Z", true],
    // Clocks go forward that night: the day has 23 hours.
    ["2027-03-28T22:59:59Z", true],
    ["2027-03-28T23:00:00Z", false],
  ])("a rule for a day is there from its first instant to its last: %s", (now, there) => {
    const portier = compile(walled);
    const session = portier.session({ person: people[0] as Row, request: { now } });
    expect(session.may("delete", "things", mine)).toBe(there);
  });
});

describe("an explanation of a condition", () => {
  it("takes it apart, with the values that each part compared", () => {
    const where = "title = 'b' and (keeper is null or not (title = 'c'))";
    const session = as("p1", declared({ things: table({ one: { to: "keeper", where, permit: { view: "all" } } }) }));
    const { rules } = explain(session, {
      action: "view",
      table: "things",
      record: { id: "t", title: "a", keeper: "p2" },
    });
    const title = [{ name: "title", value: "'a'" }];
    expect(rules[0]?.where).toMatchObject({
      kind: "and",
      truth: "false",
      parts: [
        { kind: "test", truth: "false", values: title },
        {
          kind: "or",
          truth: "true",
          parts: [
            { kind: "test", truth: "false", values: [{ name: "keeper", value: "'p2'" }] },
            { kind: "not", truth: "true", parts: [{ kind: "test", truth: "false", values: title }] },
          ],
        },
      ],
    });
  });
});

describe("lenient changes", () => {
  it("are judged again when something was dropped, until nothing more is", () => {
    const chained = declared({
      things: table({
        seen: { to: "signed-in", permit: { view: "all" } },
        title: { to: "signed-in", where: "true", becomes: "keeper is not null", permit: { edit: ["title"] } },
      }),
    });
    const session = as("p1", chained);
    const stored = { id: "t", title: "a", keeper: null };
    // The title may change only if there is a keeper afterwards; the keeper may not be set, so neither is.
    expect(session.checkEdit("things", stored, { title: "b", keeper: "p1" }, { mode: "lenient" })).toMatchObject({
      accepted: false,
      refusals: [{ field: "keeper" }, { field: "title" }],
    });
    const kept = { ...stored, keeper: "p2" };
    expect(session.checkEdit("things", kept, { title: "b", keeper: "p1", x: 1 }, { mode: "lenient" })).toEqual({
      accepted: true,
      record: { ...kept, title: "b" },
      changes: { title: "b" },
      dropped: [
        { field: "x", reason: "no-such-field", message: "There is no such field." },
        { field: "keeper", reason: "not-permitted", message: 'You may not set "Keeper".' },
      ],
    });
  });

  it("take no options that are none", () => {
    const session = as("p1", declared({ things: table({}) }));
    for (const options of [{ mode: "loose" }, { confirmed: "x" }, "lenient", { strict: true }]) {
      expect(() => session.checkDelete("things", undefined, options as never)).toThrow(/not options of a change/);
    }
  });
});

describe("forms and choices", () => {
  const formed = declared({
    shows: table({ some: { to: "signed-in", where: "id <> 'hidden'", permit: { list: ["title"] } } }),
    things: {
      key: "id",
      actions: ["pack"],
      fields: {
        id: "text",
        title: "text",
        status: { choice: ["in", "out", "gone"], default: "in" },
        show: { reference: "shows", optional: true },
        secret: { type: "text", sensitive: true, optional: true },
        blind: { type: "text", optional: true },
      },
      rules: {
        seen: { to: "keeper", permit: { view: ["title", "status", "show"] } },
        work: {
          to: "keeper",
          permit: { edit: ["title", "status", "show", "blind"], create: ["id", "title", "status"], pack: "yes" },
        },
        gone: { becomes: "status = 'gone'", deny: { edit: ["status"] }, note: "Nothing is gone for good." },
        shows: { where: "status = 'out'", confirm: { edit: ["show"], pack: "yes" }, note: "It is out." },
        locked: { deny: { edit: ["secret"] }, note: "Sealed." },
      },
    },
  });
  const data = {
    shows: [{ id: "s1" }, { id: "s2" }, { id: "hidden" }].map((row) => ({ title: null, keeper: null, ...row })),
  };
  const thing = { id: "t", title: "a", status: "out", show: "s1", secret: "x", blind: "y" };

  it("say of each field how it stands, with note and choices", () => {
    const form = as("p1", formed, data).form("things", thing);
    expect(JSON.parse(JSON.stringify(form))).toEqual({
      table: "things",
      label: "Things",
      isNew: false,
      fields: [
        { name: "id", label: "ID", type: "text", state: "read-only", required: true, value: "t" },
        { name: "title", label: "Title", type: "text", state: "editable", required: true, value: "a" },
        {
          name: "status",
          label: "Status",
          type: "choice",
          state: "editable",
          required: true,
          value: "out",
          tentative: true,
          choices: ["in", "out"],
        },
        {
          name: "show",
          label: "Show",
          type: "reference",
          state: "confirm",
          required: false,
          value: "s1",
          confirm: [{ rule: "things/shows", note: "It is out." }],
          choices: ["s1", "s2"],
        },
        { name: "secret", label: "Secret", type: "text", state: "hidden", required: false, note: "Sealed." },
        { name: "blind", label: "Blind", type: "text", state: "hidden", blind: true, required: false },
      ],
      actions: [
        { name: "list", permitted: true },
        { name: "view", permitted: true },
        { name: "edit", permitted: true },
        { name: "delete", permitted: false },
        { name: "export", permitted: false },
        { name: "bulk", permitted: false },
        { name: "pack", permitted: true, confirm: [{ rule: "things/shows", note: "It is out." }] },
      ],
    });
    expect(as("p2", formed, data).form("things", thing)).toBeUndefined();
  });

  it("say of a new record what may be given", () => {
    const form = as("p1", formed, data).form("things");
    const states = form?.fields.map(({ name, state, value }) => [name, state, value]);
    expect(states).toEqual([
      ["id", "editable", null],
      ["title", "editable", null],
      ["status", "editable", "in"],
      ["show", "read-only", null],
      ["secret", "hidden", undefined],
      ["blind", "read-only", null],
    ]);
    expect(form?.actions).toEqual([{ name: "create", permitted: true }]);
    expect(as("p2", formed, data).form("things")?.actions).toEqual([{ name: "create", permitted: false }]);
  });

  it("tell nothing of a new record to who may not make one, and hand out defaults as copies", () => {
    expect(
      as("p2", formed, data)
        .form("things")
        ?.fields.every((field) => !("value" in field)),
    ).toBe(true);
    const tags: string[] = ["new"];
    const document = declared({
      things: {
        key: "id",
        fields: { id: "text", tags: { list: "text", default: tags } },
        rules: { make: { to: "signed-in", permit: { create: ["id"], view: "all" } } },
      },
    });
    const session = as("p1", document);
    tags.push("changed later");
    for (let i = 0; i < 2; i++) {
      const made = session.checkCreate("things", { id: "n" });
      expect(made).toMatchObject({ accepted: true, record: { tags: ["new"] } });
      const given = made.accepted ? made.record?.["tags"] : undefined;
      if (Array.isArray(given)) given.push("by the application");
    }
  });

  it("never put a hidden value into what a person is told", () => {
    const outcome = as("p1", formed, data).checkEdit(
      "things",
      { ...thing, secret: "KEEP-OUT" },
      { secret: "y", status: "gone" },
    );
    const told = outcome.accepted ? [] : outcome.refusals.map(({ message }) => message);
    expect(told).toEqual(["Nothing is gone for good.", "Sealed."]);
    expect(
      JSON.stringify([outcome, as("p1", formed, data).form("things", { ...thing, secret: "KEEP-OUT" })]),
    ).not.toContain("KEEP-OUT");
  });

  it("give choices to what is of a choice or a reference only", () => {
    const session = as("p1", formed, data);
    expect(session.choices("things", "title", thing)).toBeUndefined();
    expect(session.choices("things", "status", thing)).toEqual(["in", "out"]);
    expect(session.choices("things", "show", thing)).toEqual(["s1", "s2"]);
    expect(session.choices("things", "status")).toEqual(["in", "out", "gone"]);
  });
});

describe("what is the same for every record", () => {
  // Per-person settings that are kept as rows: who may not see which field.
  const timed = compile(
    declared({
      settings: table({}),
      things: {
        key: "id",
        fields: { id: "text", title: "text", price: { type: "text", optional: true }, keeper: { reference: "staff" } },
        rules: {
          seen: { to: "signed-in", permit: { view: "all", edit: ["title", "price"], create: "all" } },
          hidden: { where: "exists (settings where keeper = me and title = 'price')", deny: { view: ["price"] } },
          one: {
            where: "exists (things where title = 'chosen')",
            becomes: "title = 'chosen'",
            deny: { create: "all" },
          },
          deep: { where: "keeper.level = 1", deny: { edit: ["title"] } },
        },
      },
    }),
  );
  const things = Array.from({ length: 50 }, (_, at) => ({ id: `t${at}`, title: "a", price: "5", keeper: "p2" }));
  const rows: Record<string, Row[]> = { staff: people, things, settings: [{ id: "1", title: "price", keeper: "p1" }] };
  const asked: string[] = [];
  const live: Source = {
    find: (name, key) => rows[name]?.find((row) => row["id"] === key),
    referring: (name, field, key) => {
      asked.push(name);
      return (rows[name] ?? []).filter((row) => row[field] === key);
    },
    all: (name) => rows[name] ?? [],
  };

  it("is looked at once in a session, is part of its reach, and travels with a snapshot", () => {
    for (const [person, isHidden] of [
      ["p1", true],
      ["p2", false],
    ] as const) {
      asked.length = 0;
      const session = timed.session({ person, source: live, onDiagnostic: () => {} });
      const seen = session.maskAll("things", things, "view");
      expect(seen.map((one) => Object.hasOwn(one, "price"))).toEqual(things.map(() => !isHidden));
      expect(asked).toEqual(["settings"]);
      expect(session.reach("view", "things", "price")).toBe(isHidden ? "none" : "all");
      const snapshot = snapshotOf(session, ["things"]);
      expect(JSON.stringify(snapshot)).not.toContain('"settings"');
      const copy = openSnapshot(JSON.parse(JSON.stringify(snapshot)), { onDiagnostic: () => {} });
      expect(copy.maskAll("things", things, "view")).toEqual(seen);
      expect(copy.reach("view", "things", "price")).toBe(session.reach("view", "things", "price"));
    }
  });

  it("is looked at anew where a change is judged: one may make it true for the next", () => {
    const session = timed.session({ person: "p1", source: live });
    const chosen = { id: "new", title: "chosen", keeper: "p1" };
    expect(session.may("create", "things", chosen)).toBe(true);
    expect(session.checkCreate("things", chosen).accepted).toBe(true);
    rows["things"] = [...things, chosen];
    expect(session.checkCreate("things", { ...chosen, id: "newer" }).accepted).toBe(false);
    rows["things"] = things;
  });

  it("leaves to the server, field by field, what a browser cannot decide", () => {
    const session = timed.session({ person: "p1", source: live });
    const copy = openSnapshot(JSON.parse(JSON.stringify(snapshotOf(session))), { onDiagnostic: () => {} });
    const state = (of: Session) =>
      of.form("things", things[0] as Row)?.fields.map((one) => [one.name, one.state, one.undecided]);
    expect(state(session)).toEqual([
      ["id", "read-only", undefined],
      ["title", "editable", undefined],
      ["price", "hidden", undefined],
      ["keeper", "read-only", undefined],
    ]);
    expect(state(copy)).toEqual([
      ["id", "read-only", undefined],
      ["title", "read-only", true],
      ["price", "hidden", undefined],
      ["keeper", "read-only", undefined],
    ]);
    const permitted = (of: Session) => of.form("things", things[0] as Row)?.actions.map((one) => one.permitted);
    expect(permitted(copy)).toEqual(permitted(session));
  });
});
