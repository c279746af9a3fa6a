import { exportJWK, generateKeyPair, type JWK, type JWTPayload, SignJWT, UnsecuredJWT } from "jose";
import { heldRoles } from "portier/explain";
import { administration, memoryStore } from "portier/people";
import { type ClaimPath, tokenReader } from "portier/tokens";
import { beforeAll, describe, expect, it } from "vitest";
import { portier, source } from "../support/museum.js";

const issuer = "https://sign-in.brackwater.example";
const now = new Date("2026-11-24T09:00:00Z");
const seconds = now.getTime() / 1_000;

describe("a token", () => {
  let reader: ReturnType<typeof tokenReader>;
  let jwk: JWK;
  let sign: (payload: JWTPayload, key?: "other") => Promise<string>;
  beforeAll(async () => {
    const [own, other] = await Promise.all([generateKeyPair("ES256"), generateKeyPair("ES256")]);
    jwk = { ...(await exportJWK(own.publicKey)), alg: "ES256", kid: "1" };
    sign = (payload, key) =>
      new SignJWT(payload)
        .setProtectedHeader({ alg: "ES256", kid: "1" })
        .sign(key === "other" ? other.privateKey : own.privateKey);
    reader = tokenReader(portier, {
      issuer,
      audience: "museum",
      keys: { keys: [jwk] },
      claims: { roles: "realm.roles", groups: `${issuer}/groups` },
      groups: { "Stocktaking 2026": "registrar", "Friends of e-5": "editor of e-5", Collections: "collections" },
    });
  });
  const good = { iss: issuer, aud: "museum", sub: "s-007", exp: seconds + 60 };
  const rolesOf = async (payload: JWTPayload) => {
    const signedIn = await reader.read(await sign(payload), { now });
    return portier.session({ ...signedIn, source, request: { now: now.toISOString() } });
  };

  it("says who the current user is; what it brings along is held besides what is stored, and says where it comes from", async () => {
    expect((await rolesOf(good)).roles).toEqual(["assistant", "editor of e-2"]);
    const session = await rolesOf({ ...good, realm: { roles: ["keeper"] } });
    expect(session.roles).toEqual(["assistant", "editor of e-2", "keeper"]);
    expect(heldRoles(session).map(({ role, ways }) => [role, ways[0]?.source, ways[0]?.on])).toEqual([
      ["assistant", "post", undefined],
      ["keeper", "the token", undefined],
      ["editor", "exhibition_team", "e-2"],
    ]);
    const { claims, expires } = await reader.read(
      await sign({ ...good, [`${issuer}/groups`]: ["Friends of e-5", "Rowing club"] }),
      { now },
    );
    expect(claims).toEqual([{ role: "editor", on: "e-5", source: 'the group "Friends of e-5" of the token' }]);
    expect(expires).toBe("2026-11-24T09:01:00.000000Z");
  });

  it("names a group of the document as one more member of it", async () => {
    const session = await rolesOf({ ...good, [`${issuer}/groups`]: "Collections" });
    const coming = source.find("exhibitions", "e-3") ?? {};
    expect(session.may("view", "exhibitions", coming, "lead")).toBe(true);
    expect((await rolesOf(good)).may("view", "exhibitions", coming, "lead")).toBe(false);
  });

  it("that brings what excludes what is held makes both unknown: neither opens anything", async () => {
    const signedIn = await reader.read(await sign({ ...good, sub: "s-001", realm: { roles: "treasurer" } }), { now });
    const found: string[] = [];
    const onDiagnostic = ({ message }: { message: string }) => found.push(message);
    const session = portier.session({ ...signedIn, source, onDiagnostic, request: { now: now.toISOString() } });
    expect(session.roles).toEqual([]);
    expect(found).toContain('s-001 holds "director" and "treasurer", which exclude each other; both count as unknown');
    expect(session.may("list", "departments", source.find("departments", "ships") ?? {})).toBe(false);
  });

  it("gives what its roles may give, and is not a holder who stays when the last stored one goes", async () => {
    const signedIn = await reader.read(await sign({ ...good, realm: { roles: ["director"] } }), { now });
    const store = memoryStore(portier, { source });
    const options = { claims: signedIn.claims, request: { now: now.toISOString() } };
    const director = administration(portier, store).as({ person: signedIn.person, ...options });
    const given = await director.make({ kind: "assign", person: "s-008", role: "assistant" });
    expect(given).toMatchObject({ accepted: true });
    const gone = await director.make({ kind: "change-person", person: "s-001", values: { active: false } });
    expect(gone).toMatchObject({ accepted: false, problems: [{ code: "last-holders" }] });
    const without = administration(portier, store).as({ person: signedIn.person, request: options.request });
    expect(await without.assign({ person: "s-008", role: "keeper" })).toMatchObject({
      problems: [{ code: "may-not-assign" }],
    });
  });

  it("of somebody who acts for another brings nothing to what is the other's", async () => {
    const { claims, person } = await reader.read(await sign({ ...good, sub: "s-003", realm: { roles: "registrar" } }), {
      now,
    });
    const request = { now: now.toISOString() };
    const session = portier.session({ person: "s-002", actedBy: person, claims, source, request });
    expect(session.roles).toEqual(["assistant", "head", "keeper"]);
    expect([session.person, session.actedBy]).toEqual(["s-002", "s-003"]);
    expect(() => portier.session({ person: "s-001", actedBy: person, claims, source, request })).toThrow(
      /does not act for/,
    );
  });

  it.each<[string, JWTPayload]>([
    ["is over", { ...good, exp: seconds }],
    ["never ends", { iss: issuer, aud: "museum", sub: "s-007" }],
    ["is not yet good", { ...good, nbf: seconds + 5 }],
    ["is of another issuer", { ...good, iss: "https://elsewhere.example" }],
    ["is for another application", { ...good, aud: "shop" }],
    ["names nobody", { ...good, sub: "" }],
    ["names roles in another way", { ...good, realm: { roles: [{ name: "keeper" }] } }],
  ])("that %s opens nothing", async (_what, payload) => {
    await expect(reader.read(await sign(payload), { now })).rejects.toMatchObject({ code: "bad-token" });
  });

  it("that is not signed by the issuer opens nothing", async () => {
    await expect(reader.read(await sign(good, "other"), { now })).rejects.toMatchObject({ code: "bad-token" });
    await expect(reader.read(new UnsecuredJWT(good).encode(), { now })).rejects.toMatchObject({ code: "bad-token" });
    await expect(reader.read("no.token.atall", { now })).rejects.toMatchObject({ code: "bad-token" });
    const [head = "", , signature = ""] = (await sign(good)).split(".");
    const forged = Buffer.from(JSON.stringify({ ...good, sub: "s-001" })).toString("base64url");
    await expect(reader.read(`${head}.${forged}.${signature}`, { now })).rejects.toMatchObject({ code: "bad-token" });
  });

  it("that names a role which there is not opens nothing, and says the nearest", async () => {
    const token = await sign({ ...good, realm: { roles: ["Keeper"] } });
    await expect(reader.read(token, { now })).rejects.toThrow(/Unknown role "Keeper". Did you mean "keeper"/);
    const wrong = { issuer, audience: "museum", keys: { keys: [] }, groups: { Lenders: "lender" } };
    expect(() => tokenReader(portier, wrong)).toThrow(/Unknown role "lender"/);
  });

  describe("whose claims are elsewhere", () => {
    const odd = "https://museum.example/v1.0/claims";
    const readerOf = (more: Partial<Parameters<typeof tokenReader>[1]>) =>
      tokenReader(portier, { issuer, audience: "museum", keys: { keys: [jwk] }, ...more });

    it.each<[string, ClaimPath, JWTPayload]>([
      ["at the top", "roles", { roles: ["keeper"] }],
      ["inside", "realm.roles", { realm: { roles: "keeper" } }],
      ["under a name with dots", `${odd}`, { [odd]: ["keeper"] }],
      ["inside of a name with dots", `${odd}.roles`, { [odd]: { roles: ["keeper"] } }],
      [
        "under a name with dots, inside of a name with dots",
        `${odd}.client.v2.roles`,
        { [odd]: { "client.v2": { roles: ["keeper"] } } },
      ],
      [
        "where a shorter name is there, too",
        `${odd}.roles`,
        { [odd]: { roles: ["keeper"] }, "https://museum": { other: 1 } },
      ],
      [
        "said step by step",
        [odd, "client.v2", "roles"],
        { [odd]: { "client.v2": { roles: ["keeper"] }, client: { v2: { roles: ["director"] } } } },
      ],
    ])("is found %s", async (_what, roles, payload) => {
      const { claims } = await readerOf({ claims: { roles } }).read(await sign({ ...good, ...payload }), { now });
      expect(claims.map(({ role }) => role)).toEqual(["keeper"]);
    });

    it.each<[string, JWTPayload]>([
      [
        "by reference",
        { _claim_names: { groups: "src1" }, _claim_sources: { src1: { endpoint: "https://x.example/groups" } } },
      ],
      ["by reference, beside some of them", { groups: ["Collections"], _claim_names: { groups: "src1" } }],
      ["by the word that there are some", { hasgroups: true }],
    ])("is an error where groups are there only %s", async (_what, payload) => {
      const own = readerOf({ claims: { groups: "groups", roles: "roles" }, groups: { Collections: "collections" } });
      await expect(own.read(await sign({ ...good, ...payload }), { now })).rejects.toMatchObject({
        code: "bad-token",
        message: expect.stringContaining('"groups" is only referred to'),
      });
      // Where no groups are read, it does not matter.
      const without = readerOf({ claims: { roles: "roles" } });
      expect((await without.read(await sign({ ...good, ...payload }), { now })).claims).toEqual([]);
    });

    it("leaves out roles of the issuer that are declared to mean nothing here, and no others", async () => {
      const read = async (leaveOut: Parameters<typeof tokenReader>[1]["leaveOut"], ...roles: string[]) => {
        const own = readerOf({ claims: { roles: "roles" }, ...(leaveOut && { leaveOut }) });
        return (await own.read(await sign({ ...good, roles }), { now })).claims.map(({ role }) => role);
      };
      expect(await read(["offline_access"], "keeper", "offline_access")).toEqual(["keeper"]);
      await expect(read(["offline_access"], "keeper", "uma_authorization")).rejects.toThrow(
        /Unknown role "uma_authorization"/,
      );
      await expect(read(undefined, "keeper", "offline_access")).rejects.toThrow(/Unknown role "offline_access"/);
      expect(await read("unknown", "offline_access", "keeper", "Keeper", "editor of e-2")).toEqual([
        "keeper",
        "editor",
      ]);
    });
  });
});
