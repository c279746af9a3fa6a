import fc from "fast-check";
import { provisionFile, scimHandler } from "portier/directory";
import { databaseStore, memoryStore, type RoleStore, storeMigration } from "portier/people";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { portier, records, source } from "../support/museum.js";
import { runsOf } from "../support/runs.js";

// SCIM as identity providers speak it (RFC 7643, RFC 7644): the same thing is said in many ways, and whatever is answered by
// 200 is what was written.

const core = "urn:ietf:params:scim:schemas:core:2.0:User";
const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
const badge = "urn:museum:params:1.5:Badge";
const mapping = {
  fields: {
    name: "displayName",
    post: "title",
    active: "active",
    phone: 'phoneNumbers[type eq "work"].value',
    manager: `${enterprise}:manager`,
    department: `${enterprise}:department`,
    site: `${badge}:site`,
  },
  groups: { Leads: "director", "Stock taking": "registrar" },
};

// biome-ignore lint/suspicious/noExplicitAny: what came over the wire
type Body = any;

function caller(handle: (request: Request) => Promise<Response>) {
  return async (method: string, path: string, body?: unknown): Promise<{ status: number; body: Body }> => {
    const response = await handle(
      new Request(`https://museum.example/scim/v2/${path}`, {
        method,
        headers: { authorization: "Bearer secret", "content-type": "application/scim+json" },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      }),
    );
    const text = await response.text();
    return { status: response.status, body: text === "" ? undefined : JSON.parse(text) };
  };
}

const patch = (...Operations: object[]) => ({
  schemas: ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
  Operations,
});

let engine: Engine;
let store: RoleStore;
let call: ReturnType<typeof caller>;

beforeAll(async () => {
  engine = await (engines["SQLite"] as () => Promise<Engine>)();
  await createTables(engine, portier.schema);
  for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
  store = databaseStore(portier, engine.connection);
  const report = (error: unknown) => {
    throw error;
  };
  call = caller(scimHandler(portier, store, { ...mapping, token: "secret", onError: report }));
});
beforeEach(async () => {
  const all = [...portier.schema.tables.keys()].map((name) => [name, records(name)] as const);
  await storeAll(engine, portier.schema, Object.fromEntries(all));
});
afterAll(() => engine.close());

const person = (id: string) => store.read((state) => ({ ...state.find("staff", id) }));

describe("a user is patched in every way that clients have of saying it", () => {
  const manager = { manager: "s-005" };
  it.each<[string, object, Readonly<Record<string, unknown>>]>([
    ["a path", { op: "replace", path: "displayName", value: "N." }, { name: "N." }],
    [
      "a path with the URN of the core schema",
      { op: "replace", path: `${core}:displayName`, value: "N." },
      { name: "N." },
    ],
    ["names in any case", { op: "Replace", path: "DISPLAYNAME", value: "N." }, { name: "N." }],
    [
      "attributes without a path",
      { op: "add", value: { displayName: "N.", active: "False" } },
      { name: "N.", active: false },
    ],
    [
      "what a resource says of itself beside",
      { op: "replace", value: { id: "s-007", schemas: [core], displayName: "N." } },
      { name: "N." },
    ],
    ["the core schema as one object", { op: "replace", value: { [core]: { displayName: "N." } } }, { name: "N." }],
    [
      "an extension's attribute by its path",
      { op: "add", path: `${enterprise}:department`, value: "ships" },
      { department: "ships" },
    ],
    [
      "an extension's attribute without a path",
      { op: "add", value: { [`${enterprise}:department`]: "ships" } },
      { department: "ships" },
    ],
    [
      "an extension as one object",
      { op: "add", value: { [enterprise]: { department: "ships", manager: { value: "s-005" } } } },
      { department: "ships", ...manager },
    ],
    [
      "an extension as the path",
      { op: "replace", path: enterprise, value: { department: "ships" } },
      { department: "ships" },
    ],
    [
      "an extension whose URN has dots and ends in no known word",
      { op: "add", value: { [badge]: { site: "south" } } },
      { site: "south" },
    ],
    ["the same by its path", { op: "add", path: `${badge}:site`, value: "south" }, { site: "south" }],
    ["a manager as a value", { op: "add", path: `${enterprise}:manager`, value: "s-005" }, manager],
    [
      "a manager as an object",
      { op: "add", path: `${enterprise}:manager`, value: { value: "s-005", displayName: "S." } },
      manager,
    ],
    ["a manager as a list", { op: "replace", path: `${enterprise}:manager`, value: [{ value: "s-005" }] }, manager],
    ["a manager's value", { op: "replace", path: `${enterprise}:manager.value`, value: "s-005" }, manager],
    ["no manager", { op: "remove", path: `${enterprise}:manager` }, { manager: null }],
    ["a manager of null", { op: "replace", path: `${enterprise}:manager`, value: null }, { manager: null }],
    ["an element by its type", { op: "add", path: 'phoneNumbers[type eq "work"].value', value: "+1" }, { phone: "+1" }],
    [
      "an element by its type, in brackets as a name",
      { op: "replace", value: { 'phoneNumbers[type eq "work"].value': "+1" } },
      { phone: "+1" },
    ],
    [
      "a list of typed elements",
      {
        op: "replace",
        path: "phoneNumbers",
        value: [
          { type: "home", value: "+2" },
          { type: "work", value: "+1" },
        ],
      },
      { phone: "+1" },
    ],
    [
      "one element that says no type",
      { op: "replace", path: "phoneNumbers", value: [{ value: "+1" }] },
      { phone: "+1" },
    ],
    [
      "an element that is added whole",
      { op: "add", path: "phoneNumbers", value: { type: "work", value: "+1", primary: true } },
      { phone: "+1" },
    ],
    ["an element that goes", { op: "remove", path: 'phoneNumbers[type eq "work"]' }, { phone: null }],
    [
      "an element that goes by its value",
      { op: "remove", path: "phoneNumbers", value: [{ value: "+47 000" }] },
      { phone: null },
    ],
    ["all elements that go", { op: "remove", path: "phoneNumbers" }, { phone: null }],
  ])("%s", async (_what, operation, expected) => {
    await call(
      "PATCH",
      "Users/s-007",
      patch({ op: "replace", path: "phoneNumbers", value: [{ type: "work", value: "+47 000" }] }),
    );
    const before = await person("s-007");
    const answered = await call("PATCH", "Users/s-007", patch(operation));
    expect(answered.status, JSON.stringify(answered.body)).toBe(200);
    const changed = Object.keys(expected).map((name) => [name, name === "active" ? false : expected[name]]);
    const after = await person("s-007");
    expect({ ...after, active: Boolean(after["active"]) }).toEqual({
      ...before,
      active: Boolean(before["active"]),
      ...Object.fromEntries(changed),
    });
    // What is answered is what a look at it gives.
    expect((await call("GET", "Users/s-007")).body).toEqual(answered.body);
  });

  it.each<[string, object, string]>([
    ["an attribute that is not kept", { op: "replace", path: "nickName", value: "N." }, "invalidPath"],
    [
      "an attribute that is not kept, among others",
      { op: "replace", value: { displayName: "N.", nickName: "N." } },
      "invalidPath",
    ],
    ["an extension that is not known", { op: "add", value: { "urn:a:b:2.0:C": { d: "e" } } }, "invalidPath"],
    [
      "a part that is not kept",
      { op: "replace", path: `${enterprise}:manager.displayName`, value: "S." },
      "invalidPath",
    ],
    [
      "parts of which none is kept",
      { op: "replace", path: `${enterprise}:manager`, value: { displayName: "S." } },
      "invalidValue",
    ],
    [
      "an element of another type",
      { op: "add", path: 'phoneNumbers[type eq "home"].value', value: "+1" },
      "invalidPath",
    ],
    [
      "only elements of other types",
      { op: "replace", path: "phoneNumbers", value: [{ type: "home", value: "+2" }] },
      "invalidValue",
    ],
    [
      "an element that is not there, to be replaced",
      { op: "replace", path: 'phoneNumbers[type eq "fax"].value', value: "+1" },
      "noTarget",
    ],
    ["a manager who is not there", { op: "replace", path: `${enterprise}:manager`, value: "s-999" }, "invalidValue"],
    ["a value of another type", { op: "replace", path: "displayName", value: { formatted: "N." } }, "invalidValue"],
    ["no value at all", { op: "replace", path: "displayName" }, "invalidValue"],
    ["nothing where there must be something", { op: "remove", path: "displayName" }, "invalidValue"],
    ["another key", { op: "replace", path: "userName", value: "s-900" }, "mutability"],
    ["another id", { op: "replace", value: { id: "s-900" } }, "mutability"],
    ["groups, which are changed as groups", { op: "add", path: "groups", value: [{ value: "Leads" }] }, "mutability"],
    ["a filter that is none", { op: "replace", path: "phoneNumbers[type is work].value", value: "+1" }, "invalidPath"],
  ])("says no to %s, with its place, and does nothing of the rest", async (_what, operation, scimType) => {
    const before = await person("s-007");
    const other = { op: "replace", path: "title", value: "volunteer" };
    const answered = await call("PATCH", "Users/s-007", patch(other, operation));
    expect(answered).toMatchObject({ status: 400, body: { scimType } });
    // What is only seen when all of it is put together has no place of its own.
    if (!/must be|is missing|is not there|is the user's key/.test(answered.body.detail)) {
      expect(answered.body.detail).toMatch(/^Operations\[1\]: /);
    }
    expect(await person("s-007")).toEqual(before);
  });
});

describe("user names", () => {
  const user = (userName: string) => ({ schemas: [core], userName, displayName: "N.", title: "assistant" });
  it.each([
    ["S-007", 409],
    ["s-007", 409],
    ["ｓ-007", 409],
    [" s-200", 400],
    ["s  200", 400],
    ["", 400],
    ["s 200", 201],
  ])("“%s” is answered by %d", async (userName, status) => {
    expect((await call("POST", "Users", user(userName))).status).toBe(status);
    const again = await call("POST", "Users", user(userName.toUpperCase()));
    expect(again.status).toBe(status === 201 ? 409 : status);
  });

  it("are the same in any case when a user is replaced, and looked up", async () => {
    const resource = { ...user("S-007"), [enterprise]: { department: "ships" } };
    expect(await call("PUT", "Users/s-007", resource)).toMatchObject({ status: 200, body: { userName: "s-007" } });
    const found = await call("GET", `Users?filter=${encodeURIComponent('UserName eq "S-007"')}`);
    expect(found.body.Resources.map(({ id }: { id: string }) => id)).toEqual(["s-007"]);
  });

  it("are another's although the key is another attribute", async () => {
    const other = { ...mapping, key: "externalId", fields: { ...mapping.fields, name: "userName" } };
    const own = caller(scimHandler(portier, store, { ...other, token: "secret" }));
    const made = (externalId: string, userName: string) =>
      own("POST", "Users", { externalId, userName, title: "keeper" });
    expect(await made("x-1", "N. One")).toMatchObject({
      status: 201,
      body: { id: "x-1", externalId: "x-1", userName: "N. One" },
    });
    expect((await made("x-2", "n. one")).status).toBe(409);
    expect((await made("x-2", "n. two")).status).toBe(201);
    expect((await own("PATCH", "Users/x-2", patch({ op: "replace", path: "userName", value: "N. ONE" }))).status).toBe(
      409,
    );
    expect((await own("PATCH", "Users/x-2", patch({ op: "replace", path: "userName", value: "N. TWO" }))).status).toBe(
      200,
    );
    // Where no field keeps them, one that would be lost is not taken.
    const without = caller(scimHandler(portier, store, { ...mapping, key: "externalId", token: "secret" }));
    const lost = await without("POST", "Users", {
      externalId: "x-3",
      userName: "n",
      displayName: "N.",
      title: "keeper",
    });
    expect(lost).toMatchObject({ status: 400, body: { scimType: "invalidValue" } });
  });
});

describe("what is asked for is answered, and no more", () => {
  it.each<[string, readonly string[]]>([
    ["Users/s-007?attributes=displayName", ["displayName", "id", "schemas"]],
    [`Users/s-007?attributes=${enterprise}:department`, ["id", "schemas", enterprise]],
    ["Users/s-007?attributes=PHONENUMBERS.value", ["id", "phoneNumbers", "schemas"]],
    [
      `Users/s-007?excludedAttributes=meta,displayName,${enterprise}:manager,phoneNumbers,id`,
      ["active", "id", "schemas", "title", enterprise, badge, "userName"],
    ],
    ["Groups/Leads?excludedAttributes=members", ["displayName", "id", "meta", "schemas"]],
    ["Groups/Leads?attributes=members.value", ["id", "members", "schemas"]],
  ])("%s", async (path, names) => {
    await call("PATCH", "Groups/Leads", patch({ op: "add", path: "members", value: [{ value: "s-006" }] }));
    const { status, body } = await call("GET", path);
    expect(status).toBe(200);
    expect(Object.keys(body).sort()).toEqual(
      expect.arrayContaining([...names].filter((name) => name !== badge && name !== enterprise).sort()),
    );
    expect(Object.keys(body).filter((name) => !names.includes(name))).toEqual([]);
    for (const one of [...(body.phoneNumbers ?? []), ...(body.members ?? [])])
      expect(Object.keys(one)).toEqual(["value"]);
  });

  it("in answers to changes, lists and searches, too", async () => {
    const changed = await call(
      "PATCH",
      "Users/s-007?attributes=title",
      patch({ op: "replace", path: "title", value: "volunteer" }),
    );
    expect(changed.body).toEqual({ schemas: expect.any(Array), id: "s-007", title: "volunteer" });
    const filter = `title eq "volunteer" and not (userName eq "S-007") or ${enterprise}:manager eq "s-001"`;
    const searched = await call("POST", "Users/.search", { filter, attributes: ["title"], count: 2, startIndex: 2 });
    const listed = await call(
      "GET",
      `Users?filter=${encodeURIComponent(filter)}&attributes=title&count=2&startIndex=2`,
    );
    expect(searched).toEqual(listed);
    expect(searched.body).toMatchObject({ startIndex: 2, itemsPerPage: 2 });
    const everything = await call("POST", ".search", { filter: "displayName pr" });
    expect(everything.body.totalResults).toBe(records("staff").length + 2);
    const members = await call("GET", `Groups?filter=${encodeURIComponent('members[value eq "s-006"]')}`);
    expect(members.body.totalResults).toBe(0);
    expect((await call("GET", "Users?attributes=a&excludedAttributes=b")).status).toBe(400);
    expect((await call("PUT", "Users/.search", {})).status).toBe(405);
    const many = Array.from({ length: 201 }, () => "title");
    expect((await call("POST", "Users/.search", { attributes: many })).status).toBe(400);
  });

  it("and every attribute that is answered is declared, and none else is", async () => {
    const { body } = await call("GET", "Schemas");
    const declared = new Map<string, Body>(body.Resources.map((one: Body) => [one.id, one.attributes]));
    expect([...declared.keys()].sort()).toEqual(
      [core, "urn:ietf:params:scim:schemas:core:2.0:Group", enterprise, badge].sort(),
    );
    await call(
      "PATCH",
      "Users/s-007",
      patch({
        op: "add",
        value: {
          [enterprise]: { manager: "s-005", department: "ships" },
          [badge]: { site: "south" },
          phoneNumbers: [{ type: "work", value: "+1" }],
        },
      }),
    );
    await call("PATCH", "Groups/Leads", patch({ op: "add", path: "members", value: [{ value: "s-007" }] }));
    const full = (await call("GET", "Users/s-007")).body;
    const names = (urn: string) =>
      declared
        .get(urn)
        .map(({ name }: { name: string }) => name)
        .sort();
    const common = ["schemas", "id", "meta", enterprise, badge];
    expect(names(core)).toEqual(
      Object.keys(full)
        .filter((name) => !common.includes(name))
        .sort(),
    );
    expect(names(enterprise)).toEqual(Object.keys(full[enterprise]).sort());
    expect(names(badge)).toEqual(Object.keys(full[badge]).sort());
    const one = await call("GET", `Schemas/${badge}`);
    expect(one.body).toMatchObject({ id: badge, attributes: [{ name: "site", canonicalValues: ["north", "south"] }] });
    const types = await call("GET", "ResourceTypes/User");
    expect(types.body.schemaExtensions.map(({ schema }: Body) => schema).sort()).toEqual([enterprise, badge].sort());
    for (const path of ["Schemas/none", "ResourceTypes/None", "Things/.search"]) {
      expect(
        (await call(path.startsWith("Things") ? "POST" : "GET", path, path.startsWith("Things") ? {} : undefined))
          .status,
      ).toBe(404);
    }
  });
});

describe("a filter", () => {
  const own = caller(scimHandler(portier, memoryStore(portier, { source }), { ...mapping, token: "secret" }));
  it.each([
    "",
    "title",
    "title eq",
    'title eq "a" and',
    '(title eq "a"',
    'title eq "a")',
    "title eq a b",
    "not title pr",
    "title gt true",
    'title eq "a" title',
    "phoneNumbers[type",
    `title eq "${"x".repeat(2_000)}"`,
    "[]",
    '"a" eq title',
    "((((",
    "urn:x: eq 1",
  ])("“%.40s” is none, and said to be none", async (filter) => {
    const answered = await own("GET", `Users?filter=${encodeURIComponent(filter)}`);
    expect(answered).toMatchObject({ status: 400, body: { scimType: "invalidFilter" } });
  });

  it("finds what its parts find, however they are put together", async () => {
    const staff = records("staff");
    type Row = (typeof staff)[number];
    const text = (row: Row, name: string) => String(row[name] ?? "").toLowerCase();
    const leaves: readonly (readonly [string, (row: Row) => boolean])[] = [
      ['title eq "KEEPER"', (row) => text(row, "post") === "keeper"],
      ['title ne "keeper"', (row) => text(row, "post") !== "keeper"],
      ["active eq true", (row) => row["active"] !== false],
      ['displayName sw "a"', (row) => text(row, "name").startsWith("a")],
      ['displayName ew "N"', (row) => text(row, "name").endsWith("n")],
      ['displayName co "o"', (row) => text(row, "name").includes("o")],
      ['userName gt "s-010"', (row) => String(row["id"]) > "s-010"],
      ['userName ge "s-010"', (row) => String(row["id"]) >= "s-010"],
      ['userName lt "s-010"', (row) => String(row["id"]) < "s-010"],
      ['userName le "s-010"', (row) => String(row["id"]) <= "s-010"],
      [`${enterprise}:manager pr`, (row) => (row["manager"] ?? null) !== null],
      [`${enterprise}:manager eq null`, (row) => (row["manager"] ?? null) === null],
      [`${enterprise}:manager.value eq "s-001"`, (row) => row["manager"] === "s-001"],
      ['phoneNumbers[type eq "work" and value pr]', (row) => (row["phone"] ?? null) !== null],
    ];
    const met = new Set<string>();
    const tree = fc.letrec<{ node: readonly [string, (row: Row) => boolean] }>((tie) => ({
      node: fc.oneof(
        { depthSize: "small" },
        fc.constantFrom(...leaves),
        tie("node").map(([one, is]) => [`not (${one})`, (row: Row) => !is(row)] as const),
        fc
          .tuple(tie("node"), tie("node"))
          .map(([[a, isA], [b, isB]]) => [`(${a}) and (${b})`, (row: Row) => isA(row) && isB(row)] as const),
        fc
          .tuple(tie("node"), tie("node"))
          .map(([[a, isA], [b, isB]]) => [`${a} OR ${b}`, (row: Row) => isA(row) || isB(row)] as const),
      ),
    })).node;
    await fc.assert(
      fc.asyncProperty(tree, async ([filter, is]) => {
        if (filter.length > 2_000) return;
        for (const [leaf] of leaves) if (filter.includes(leaf)) met.add(leaf);
        const { body } = await own("GET", `Users?filter=${encodeURIComponent(filter)}&attributes=id`);
        expect(body.Resources.map(({ id }: Body) => id)).toEqual(staff.filter(is).map(({ id }) => id));
      }),
      { numRuns: runsOf(100) },
    );
    expect(met.size).toBe(leaves.length);
  });
});

describe("many at a time", () => {
  it("a PATCH of thousands of operations is done or bounded, not searched through time and again", async () => {
    const big = caller(scimHandler(portier, store, { ...mapping, token: "secret", limits: { operations: 12_000 } }));
    const keys = Array.from({ length: 12_000 }, (_, index) => (index % 24) + 1).map(
      (one) => `s-${String(one).padStart(3, "0")}`,
    );
    const each = keys.map((value, index) =>
      index % 3 === 2
        ? { op: "remove", path: `members[value eq "${value}"]` }
        : { op: "add", path: "members", value: [{ value }] },
    );
    const answered = await big("PATCH", "Groups/Stock%2520taking", patch(...each));
    expect(answered.status, JSON.stringify(answered.body)).toBe(200);
    expect(await call("PATCH", "Groups/Stock%2520taking", patch(...each))).toMatchObject({ status: 413 });
    // What would have to be searched for through all of them each time is bounded as a whole.
    const elements = Array.from({ length: 2_000 }, (_, index) => ({ type: "work", value: `+${index}` }));
    const search = { op: "remove", path: 'phoneNumbers[value sw "-"]' };
    const looks = await call(
      "PATCH",
      "Users/s-007",
      patch({ op: "replace", path: "phoneNumbers", value: elements }, ...Array.from({ length: 1_000 }, () => search)),
    );
    expect(looks.status).toBe(413);
  });

  it("a group takes thousands of members at once, and a user who is not there takes none of them in", async () => {
    const rows = Array.from({ length: 1_500 }, (_, index) => ({ ...records("staff")[7], id: `m-${index}` }));
    await storeAll(engine, portier.schema, { staff: [...records("staff"), ...rows] } as never);
    const members = rows.map(({ id }) => ({ value: id }));
    const add = (...more: { value: string }[]) => patch({ op: "add", path: "members", value: [...members, ...more] });
    const group = "Groups/Stock%2520taking?excludedAttributes=members";
    expect(await call("PATCH", group, add({ value: "nobody" }))).toMatchObject({
      status: 400,
      body: { scimType: "invalidValue" },
    });
    expect((await call("PATCH", group, add())).status).toBe(200);
    expect((await call("GET", "Groups/Stock%2520taking")).body.members).toHaveLength(1_500);
    expect((await call("PATCH", group, patch({ op: "remove", path: "members" }))).status).toBe(200);
    expect((await call("GET", "Groups/Stock%2520taking")).body.members).toEqual([]);
  });

  it("a file may name a manager before them, and comes to the same as one by one", async () => {
    const user = (number: number) => ({
      userName: `t-${number}`,
      displayName: `Made-up ${number}`,
      title: "volunteer",
      ...(number === 0 ? {} : { [enterprise]: { manager: { value: `t-${Math.floor((number - 1) / 3)}` } } }),
    });
    const all = Array.from({ length: 400 }, (_, index) => user(index)).reverse();
    expect(await provisionFile(portier, store, JSON.stringify(all), mapping)).toBe(400);
    expect(await person("t-399")).toMatchObject({ manager: "t-132" });
    const circle = [
      { ...user(500), [enterprise]: { manager: "t-501" } },
      { ...user(501), [enterprise]: { manager: "t-500" } },
    ];
    await expect(provisionFile(portier, store, JSON.stringify(circle), mapping)).rejects.toThrow(/which is not there/);
    await expect(provisionFile(portier, store, "[null]", mapping)).rejects.toThrow(/resource 1 is not an object/);
    await expect(
      provisionFile(portier, store, JSON.stringify([user(600), { ...user(600), userName: "T-600" }]), mapping),
    ).rejects.toThrow(/resource 2: there is a user/);
  });
});
