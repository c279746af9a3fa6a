import type { Row } from "portier";
import { provisionFile, scimHandler } from "portier/directory";
import { databaseStore, memoryStore, type RoleStore, storeMigration } from "portier/people";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { portier, records, source } from "../support/museum.js";

const core = "urn:ietf:params:scim:schemas:core:2.0:User";
const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
const groupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group";
const mapping = {
  fields: { name: "displayName", active: "active", post: "title", department: `${enterprise}:department` },
  groups: {
    "Stock taking": "registrar",
    "Friends of e-5": "editor of e-5",
    Leads: "director",
    Collections: "collections",
  },
};
const secret = "a-long-secret";

interface Answer {
  readonly status: number;
  // biome-ignore lint/suspicious/noExplicitAny: what came over the wire
  readonly body: any;
}

function caller(handle: (request: Request) => Promise<Response>) {
  return async (method: string, path: string, body?: unknown, token = secret): Promise<Answer> => {
    const response = await handle(
      new Request(`https://museum.example/scim/v2/${path}`, {
        method,
        headers: { authorization: `Bearer ${token}`, "content-type": "application/scim+json" },
        ...(body === undefined ? {} : { body: typeof body === "string" ? body : JSON.stringify(body) }),
      }),
    );
    const text = await response.text();
    return { status: response.status, body: text === "" ? undefined : JSON.parse(text) };
  };
}

const members = (...ids: string[]) => ids.map((value) => ({ value }));
const patch = (...Operations: object[]) => ({
  schemas: ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
  Operations,
});

describe.each(Object.entries(engines))("provisioning into %s", (_name, openEngine) => {
  let engine: Engine;
  let store: RoleStore;
  let call: ReturnType<typeof caller>;
  beforeAll(async () => {
    engine = await openEngine();
    await createTables(engine, portier.schema);
    for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
    store = databaseStore(portier, engine.connection);
    const failed = (error: unknown) => {
      throw error;
    };
    call = caller(scimHandler(portier, store, { ...mapping, token: ["an-older-secret", secret], onError: failed }));
  });
  beforeEach(async () => {
    const all = [...portier.schema.tables.keys()].map((name) => [name, records(name)] as const);
    await storeAll(engine, portier.schema, Object.fromEntries(all) as Record<string, readonly Row[]>);
  });
  afterAll(() => engine.close());

  const rolesOf = (person: string) => store.read((state) => portier.session({ person, source: state }).roles);

  it("a user is made, found, changed in both ways, and deleted", async () => {
    const user = {
      schemas: [core, enterprise],
      userName: "s-100",
      displayName: "Marit Quill",
      title: "assistant",
      active: true,
      [enterprise]: { department: "ships" },
    };
    const made = await call("POST", "Users", user);
    expect(made).toMatchObject({ status: 201, body: { id: "s-100", displayName: "Marit Quill", active: true } });
    expect(made.body.meta.location).toBe("https://museum.example/scim/v2/Users/s-100");
    expect(await rolesOf("s-100")).toEqual(["assistant"]);
    expect(await call("POST", "Users", user)).toMatchObject({ status: 409, body: { scimType: "uniqueness" } });
    const found = await call("GET", `Users?filter=${encodeURIComponent('userName eq "S-100"')}`);
    expect(found.body).toMatchObject({
      totalResults: 1,
      Resources: [{ id: "s-100", [enterprise]: { department: "ships" } }],
    });
    expect(await call("PUT", "Users/s-100", { ...user, displayName: "Marit Q." })).toMatchObject({
      status: 200,
      body: { displayName: "Marit Q." },
    });
    const off = await call("PATCH", "Users/s-100", patch({ op: "Replace", path: "active", value: "False" }));
    expect(off.body.active).toBe(false);
    // What says neither yes nor no says nothing, and nothing is done.
    for (const value of ["banana", "", 1]) {
      const odd = await call("PATCH", "Users/s-100", patch({ op: "replace", path: "active", value }));
      expect([value, odd.status]).toEqual([value, 400]);
    }
    const nul = await call("PATCH", "Users/s-100", patch({ op: "replace", path: "displayName", value: "a\0" }));
    expect(nul.status).toBe(400);
    expect(await rolesOf("s-100")).toEqual([]);
    await call(
      "PATCH",
      "Users/s-100",
      patch({ op: "replace", value: { active: true, [`${enterprise}:department`]: "textiles" } }),
    );
    expect((await call("GET", "Users/s-100")).body).toMatchObject({
      active: true,
      [enterprise]: { department: "textiles" },
    });
    expect((await call("DELETE", "Users/s-100")).status).toBe(204);
    expect((await call("GET", "Users/s-100")).status).toBe(404);
    expect((await store.auditLog({ person: "s-100" })).map(({ details }) => details[0])).toEqual([
      "DELETE Users/s-100",
      "PATCH Users/s-100",
      "PATCH Users/s-100",
      "PUT Users/s-100",
      "POST Users",
    ]);
  });

  it("members of a group hold what it means, for as long as they are in it", async () => {
    const group = "Groups/Stock%2520taking";
    expect((await call("GET", "Groups")).body.Resources).toHaveLength(4);
    await call("PATCH", group, patch({ op: "add", path: "members", value: members("s-007", "s-003") }));
    await call("PATCH", "Groups/Friends%2520of%2520e-5", patch({ op: "Add", value: { members: members("s-007") } }));
    expect(await rolesOf("s-007")).toEqual(["assistant", "editor of e-2", "editor of e-5", "registrar"]);
    expect((await call("GET", "Users/s-007")).body.groups.map(({ display }: { display: string }) => display)).toEqual([
      "Stock taking",
      "Friends of e-5",
    ]);
    await call("PATCH", group, patch({ op: "remove", path: 'members[value eq "s-007"]' }));
    expect(await rolesOf("s-007")).toEqual(["assistant", "editor of e-2", "editor of e-5"]);
    expect(
      (await call("PUT", group, { schemas: [groupSchema], displayName: "Stock taking", members: members("s-008") }))
        .body.members,
    ).toEqual([{ value: "s-008", type: "User" }]);
    expect(await rolesOf("s-003")).toEqual(["assistant", "keeper", "lead of e-1", "editor of e-1"].sort());
    await call("PATCH", "Groups/Collections", patch({ op: "add", path: "members", value: members("s-008") }));
    const may = await store.read((state) =>
      portier
        .session({ person: "s-008", source: state })
        .may("view", "exhibitions", state.find("exhibitions", "e-3") ?? {}, "lead"),
    );
    expect(may).toBe(true);
  });

  it("what must not be is refused, and nothing of it is done", async () => {
    const treasurer = await call(
      "PATCH",
      "Groups/Leads",
      patch({ op: "add", path: "members", value: members("s-007", "s-010") }),
    );
    expect(treasurer).toMatchObject({ status: 409, body: { detail: expect.stringContaining("exclude each other") } });
    expect(await rolesOf("s-007")).toEqual(["assistant", "editor of e-2"]);
    const last = await call("PATCH", "Users/s-001", patch({ op: "replace", path: "active", value: false }));
    expect(last).toMatchObject({
      status: 409,
      body: { detail: expect.stringContaining('Role "director" needs 1 holder') },
    });
    const unknown = await call(
      "PATCH",
      "Groups/Leads",
      patch({ op: "add", path: "members", value: members("s-007", "s-999") }),
    );
    expect(unknown).toMatchObject({ status: 400, body: { scimType: "invalidValue" } });
    expect(await rolesOf("s-007")).toEqual(["assistant", "editor of e-2"]);
  });

  it("a file brings everybody to what it says, all or nothing", async () => {
    const resources = [
      { schemas: [groupSchema], displayName: "Stock taking", members: members("s-101") },
      { schemas: [core], userName: "s-101", displayName: "Otis Vane", title: "volunteer", active: true },
      { schemas: [core], userName: "s-008", displayName: "Mateo Brandt", title: "assistant", active: true },
    ];
    expect(await provisionFile(portier, store, JSON.stringify({ Resources: resources }), mapping)).toBe(3);
    expect(await rolesOf("s-101")).toEqual(["registrar", "volunteer"]);
    expect(await rolesOf("s-008")).toEqual(["assistant"]);
    expect(await provisionFile(portier, store, JSON.stringify(resources), mapping)).toBe(0);
    const wrong = [...resources.slice(1), { schemas: [core], userName: "s-102", displayName: "X", title: "Keeper" }];
    await expect(provisionFile(portier, store, JSON.stringify(wrong), mapping)).rejects.toThrow(
      /resource 3: "title" must be/,
    );
    await expect(provisionFile(portier, store, "{", mapping)).rejects.toThrow(/cannot be provisioned/);
  });
});

describe("a provisioning service", () => {
  const store = memoryStore(portier, { source });
  const call = caller(scimHandler(portier, store, { ...mapping, token: secret }));

  it.each<[string, string, unknown, number, string | undefined]>([
    ["GET", "Users/s-999", undefined, 404, undefined],
    ["GET", "Things", undefined, 404, undefined],
    ["GET", "Users?filter=userName%20is%20%22s%22", undefined, 400, "invalidFilter"],
    ["GET", "Users?count=many", undefined, 400, "invalidValue"],
    ["POST", "Users", "{", 400, "invalidSyntax"],
    ["POST", "Users", "[]", 400, "invalidSyntax"],
    ["POST", "Users", { displayName: "Nobody" }, 400, "invalidValue"],
    ["POST", "Users", { userName: "s-100", displayName: "M", title: "captain" }, 400, "invalidValue"],
    ["POST", "Users", { userName: "s-100", displayName: "M", title: "keeper" }, 501, undefined],
    ["POST", "Groups", { displayName: "Leads" }, 409, "uniqueness"],
    ["POST", "Groups", { displayName: "Lenders" }, 400, "invalidValue"],
    ["DELETE", "Groups/Leads", undefined, 403, "mutability"],
    ["PUT", "Groups/Leads", { displayName: "Others" }, 400, "mutability"],
    ["PUT", "Users/s-007", { userName: "s-008", displayName: "N", title: "keeper" }, 400, "mutability"],
    ["PATCH", "Users/s-007", patch(), 400, "invalidSyntax"],
    ["PATCH", "Users/s-007", patch({ op: "move", path: "title" }), 400, "invalidSyntax"],
    ["PATCH", "Users/s-007", patch({ op: "replace", path: "a b", value: 1 }), 400, "invalidPath"],
    ["PATCH", "Groups/Leads", patch({ op: "replace", path: 'members[value eq "x"]', value: {} }), 400, "noTarget"],
    ["PUT", "Users", {}, 405, undefined],
    ["PATCH", "Groups/Leads", "x".repeat(1_048_577), 413, undefined],
  ])("answers %s %s as the standard says", async (method, path, body, status, scimType) => {
    const answered = await call(method, path, body);
    expect(answered).toMatchObject({ status, body: { status: String(status), ...(scimType && { scimType }) } });
    expect(await store.auditLog()).toEqual([]);
  });

  it("names such as __proto__ are names", async () => {
    await call("PATCH", "Users/s-007", patch({ op: "add", path: "__proto__.active", value: false }));
    await call("PATCH", "Users/s-007", '{"Operations":[{"op":"add","value":{"__proto__":{"active":false}}}]}');
    expect(({} as Record<string, unknown>)["active"]).toBeUndefined();
  });

  it.each(["wrong", "", "a-long-secret2"])("lets nobody in with the token “%s”", async (token) => {
    expect((await call("GET", "Users", undefined, token)).status).toBe(401);
  });

  it("says what it knows, gives pages, and works where persons are not kept for groups alone", async () => {
    expect((await call("GET", "ServiceProviderConfig")).body).toMatchObject({
      patch: { supported: true },
      bulk: { supported: false },
    });
    expect((await call("GET", "ResourceTypes")).body.Resources).toHaveLength(2);
    const page = await call("GET", "Users?startIndex=3&count=2");
    expect(page.body).toMatchObject({
      totalResults: 24,
      startIndex: 3,
      itemsPerPage: 2,
      Resources: [{ id: "s-003" }, { id: "s-004" }],
    });
    expect(
      (await call("PATCH", "Groups/Leads", patch({ op: "add", path: "members", value: members("s-005") }))).status,
    ).toBe(200);
    expect(portier.session({ person: "s-005", source: store.source }).roles).toEqual(["director", "registrar"]);
  });
});
