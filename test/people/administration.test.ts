import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Row } from "portier";
import { createDatabase } from "portier/database";
import { jsonFileStore } from "portier/directory";
import { administration, databaseStore, memoryStore, type RoleStore, storeMigration } from "portier/people";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { portier, records, source } from "../support/museum.js";

/** The museum's people on every store: the same stories must come out the same. */
const now = "2026-11-24T09:00:00Z";
const stored = (table: string) => records(table) as never;

interface Kept {
  readonly store: RoleStore;
  /** What a person may do by what is kept now. */
  readonly may: (person: string, at?: string, actedBy?: string) => Promise<readonly string[]>;
  /** Puts everything back as it was. */
  readonly reset: () => Promise<void>;
  readonly close: () => Promise<unknown>;
}

const stores: Readonly<Record<string, () => Promise<Kept>>> = {
  memory: async () => {
    const open = () =>
      memoryStore(portier, {
        source,
        assignments: stored("portier_assignments"),
        delegations: stored("portier_delegations"),
      });
    let store = open();
    return {
      get store() {
        return store;
      },
      may: async (person, at = now, actedBy) =>
        portier.session({ person, source: store.source, request: { now: at }, ...(actedBy && { actedBy }) }).roles,
      reset: async () => {
        store = open();
      },
      close: async () => {},
    };
  },
  "a JSON file": async () => {
    const folder = mkdtempSync(join(tmpdir(), "portier-"));
    const file = join(folder, "roles.json");
    const store = jsonFileStore(portier, file, { source });
    return {
      store,
      may: async (person, at = now, actedBy) =>
        portier.session({ person, source: store.source, request: { now: at }, ...(actedBy && { actedBy }) }).roles,
      reset: async () => {
        rmSync(`${file}.audit`, { force: true });
        const rows = { assignments: records("portier_assignments"), delegations: records("portier_delegations") };
        writeFileSync(file, JSON.stringify({ version: 0, ...rows }));
      },
      close: async () => rmSync(folder, { recursive: true }),
    };
  },
  ...Object.fromEntries(Object.entries(engines).map(([name, openEngine]) => [name, () => onDatabase(openEngine)])),
};

async function onDatabase(openEngine: () => Promise<Engine>): Promise<Kept> {
  const engine = await openEngine();
  await createTables(engine, portier.schema);
  // Again, as it must be possible.
  for (const statement of [...storeMigration(portier, engine.dialect), ...storeMigration(portier, engine.dialect)]) {
    await engine.run(statement);
  }
  const all = Object.fromEntries(
    [...portier.schema.tables.keys(), "portier_assignments", "portier_delegations"].map((name) => [
      name,
      records(name),
    ]),
  ) as Record<string, readonly Row[]>;
  return {
    store: databaseStore(portier, engine.connection),
    may: (person, at = now, actedBy) =>
      createDatabase(portier, engine.connection)
        .as({ person, request: { now: at }, ...(actedBy && { actedBy }) })
        .ask((session) => session.roles),
    reset: async () => {
      await storeAll(engine, portier.schema, all);
    },
    close: engine.close,
  };
}

describe.each(Object.entries(stores))("the museum's people in %s", (_name, open) => {
  let kept: Kept;
  beforeAll(async () => {
    kept = await open();
  });
  beforeEach(() => kept.reset());
  afterAll(() => kept.close());

  const as = (person: string, more: object = {}) =>
    administration(portier, kept.store).as({ person, request: { now }, ...more });
  /** Confirms whatever there is to confirm. */
  const sure = async (person: string, change: Parameters<ReturnType<typeof as>["make"]>[0], more: object = {}) => {
    const first = await as(person, more).make(change);
    if (first.accepted || first.reason === "refused") return first;
    return as(person, more).make(change, { confirmed: first.warnings.map(({ id }) => id) });
  };
  const codes = (outcome: Awaited<ReturnType<typeof sure>>) =>
    outcome.accepted ? "accepted" : [outcome.reason, ...outcome.problems.map(({ code }) => code)].join(" ");

  it("a role is assigned for a time, counts while it runs, and is taken away", async () => {
    expect(await kept.may("s-008")).toEqual(["volunteer"]);
    expect(
      codes(await sure("s-013", { kind: "assign", person: "s-008", role: "assistant", until: "2026-12-24" })),
    ).toBe("accepted");
    expect(await kept.may("s-008")).toEqual(["assistant", "volunteer"]);
    expect(await kept.may("s-008", "2026-12-24T00:00:00Z")).toEqual(["volunteer"]);
    expect(codes(await sure("s-013", { kind: "set-expiry", person: "s-008", role: "assistant", until: null }))).toBe(
      "accepted",
    );
    expect(await kept.may("s-008", "2026-12-24T00:00:00Z")).toEqual(["assistant", "volunteer"]);
    expect(codes(await sure("s-013", { kind: "revoke", person: "s-008", role: "assistant" }))).toBe("accepted");
    expect(await kept.may("s-008")).toEqual(["volunteer"]);
  });

  it("a role that has expired gives nothing, one that is to come gives nothing yet", async () => {
    expect(await kept.may("s-008", "2026-07-01T00:00:00Z")).toEqual(["assistant", "volunteer"]);
    expect(await kept.may("s-007", "2027-01-01T00:00:00Z")).toEqual(["assistant", "editor of e-2", "keeper"]);
    expect(await kept.may("s-007", "2026-12-31T23:59:59.999999Z")).toEqual(["assistant", "editor of e-2"]);
  });

  it("a lead makes editors of their own exhibition, and of no other", async () => {
    const give = (on: string) => sure("s-003", { kind: "assign", person: "s-007", role: "editor", on });
    expect(codes(await give("e-1"))).toBe("accepted");
    expect(await kept.may("s-007")).toContain("editor of e-1");
    expect(codes(await give("e-5"))).toBe("refused may-not-assign");
    expect(codes(await give("e-99"))).toBe("refused no-such-record");
  });

  it.each([
    ["a role that there is not", "s-001", { person: "s-007", role: "Registrar" }, "unknown-role"],
    ["a person that there is not", "s-001", { person: "s-7", role: "keeper" }, "unknown-person"],
    ["what is not theirs to give", "s-002", { person: "s-007", role: "keeper" }, "may-not-assign"],
    ["what is not theirs, to themselves", "s-003", { person: "s-003", role: "director" }, "may-not-assign"],
    ["a scoped role without its record", "s-001", { person: "s-007", role: "editor" }, "record-needed"],
    ["another role with a record", "s-001", { person: "s-007", role: "keeper", on: "e-1" }, "no-record-needed"],
    ["what is given already", "s-001", { person: "s-007", role: "keeper" }, "already-assigned"],
    [
      "what is over before it begins",
      "s-001",
      { person: "s-007", role: "head", until: "2026-11-01" },
      "period-is-over",
    ],
    ["what excludes what they hold", "s-001", { person: "s-010", role: "director" }, "excluded-role"],
    ["anything, by somebody who left", "s-009", { person: "s-007", role: "keeper" }, "not-active"],
    ["anything, by a visitor", "nobody", { person: "s-007", role: "keeper" }, "not-active"],
    ["anything, who left", "s-001", { person: "s-009", role: "head" }, "not-active"],
  ])("nobody is given %s", async (_what, assigner, change, code) => {
    expect(codes(await sure(assigner, { kind: "assign", ...change }))).toBe(`refused ${code}`);
    expect(await kept.may("s-007")).toEqual(["assistant", "editor of e-2"]);
  });

  it("a wrong name is answered with the right one", async () => {
    const outcome = await as("s-001").assign({ person: "s-007", role: "Registrar" });
    expect(outcome).toMatchObject({ problems: [{ hint: 'Did you mean "registrar"?' }] });
  });

  it("what a field or a link table gives is taken away there", async () => {
    const outcome = await sure("s-001", { kind: "revoke", person: "s-005", role: "registrar" });
    expect(outcome).toMatchObject({ problems: [{ code: "not-assigned", hint: expect.stringContaining('"post"') }] });
  });

  it("the last director stays, in whatever way they would go", async () => {
    const post = (person: string, values: Row) => sure("s-001", { kind: "change-person", person, values });
    expect(codes(await post("s-001", { post: "keeper" }))).toBe("refused last-holders");
    expect(codes(await post("s-001", { active: false }))).toBe("refused last-holders");
    await sure("s-001", { kind: "assign", person: "s-011", role: "director", until: "2027-01-01" });
    expect(codes(await post("s-001", { post: "keeper" }))).toBe("refused last-holders");
    await sure("s-001", { kind: "set-expiry", person: "s-011", role: "director", until: null });
    if (!kept.store.keepsPersons) {
      expect(codes(await post("s-001", { post: "keeper" }))).toBe("refused store-keeps-no-people");
      return;
    }
    expect(codes(await post("s-001", { post: "keeper" }))).toBe("accepted");
    expect(codes(await sure("s-011", { kind: "revoke", person: "s-011", role: "director" }))).toBe(
      "refused last-holders",
    );
  });

  it("who is made a director is said to see more, to give roles, and to be able to take the assigner's", async () => {
    await sure("s-001", { kind: "assign", person: "s-011", role: "director" });
    const outcome = await as("s-011").assign({ person: "s-005", role: "director" });
    expect(outcome).toMatchObject({ accepted: false, reason: "unconfirmed" });
    expect(outcome.warnings.map(({ code }) => code)).toEqual(
      expect.arrayContaining(["gains-sensitive", "gains-assignable-roles", "gains-revoking-your-roles"]),
    );
    // Something else was confirmed, and not all of it.
    const [first] = outcome.warnings;
    const partly = await as("s-011").assign({ person: "s-005", role: "director" }, { confirmed: [first?.id ?? ""] });
    expect(codes(partly)).toBe("unconfirmed");
    expect(await kept.may("s-005")).toEqual(["registrar"]);
  });

  it("one role takes the place of another in one act, for as long as that one had", async () => {
    const replace = (assigner: string, role: string, insteadOf: string, more: object = {}) =>
      sure(assigner, { kind: "replace", person: "s-008", role, insteadOf, ...more });
    await sure("s-001", { kind: "assign", person: "s-008", role: "treasurer", until: "2026-12-24" });
    // Treasurer and director exclude each other: one after the other neither order would do.
    expect(codes(await sure("s-001", { kind: "assign", person: "s-008", role: "director" }))).toBe(
      "refused excluded-role",
    );
    expect(codes(await replace("s-013", "director", "treasurer"))).toBe("refused may-not-assign");
    expect(codes(await replace("s-001", "treasurer", "treasurer"))).toBe("refused same-role");
    expect(codes(await replace("s-001", "director", "keeper"))).toBe("refused not-assigned");
    expect(codes(await replace("s-001", "editor", "treasurer", { on: "e-1" }))).toBe("refused no-record-needed");
    const preview = await as("s-001").preview({
      ...{ kind: "replace", person: "s-008", role: "director", insteadOf: "treasurer" },
    });
    expect(preview.outcome.warnings.map(({ code }) => code)).toEqual(
      expect.arrayContaining(["gains-assignable-roles", "gains-revoking-your-roles"]),
    );
    expect([preview.gains.length > 0, preview.losses.length > 0]).toEqual([true, true]);
    expect(codes(await replace("s-001", "director", "treasurer"))).toBe("accepted");
    expect(await kept.may("s-008")).toEqual(["director", "volunteer"]);
    expect(await kept.may("s-008", "2026-12-24T00:00:00Z")).toEqual(["volunteer"]);
    const [entry] = await kept.store.auditLog({ limit: 1 });
    expect([entry?.kind, entry?.before.length, entry?.after.length]).toEqual(["replace", 1, 1]);
    expect(codes(await replace("s-001", "assistant", "director", { until: null }))).toBe("accepted");
    expect(await kept.may("s-008", "2026-12-24T00:00:00Z")).toEqual(["assistant", "volunteer"]);
  });

  it("roles are offered from least to most, to whom they are theirs to give", async () => {
    const offered = async (assigner: string, on?: string) =>
      (await as(assigner).assignable(on === undefined ? undefined : { table: "exhibitions", key: on })).map(
        ({ role }) => role,
      );
    const all = await offered("s-001");
    expect(all.indexOf("assistant")).toBeLessThan(all.indexOf("keeper"));
    expect(all.indexOf("keeper")).toBeLessThan(all.indexOf("head"));
    expect([all[0], all.length]).toEqual(["volunteer", 8]);
    expect(await offered("s-002")).toEqual(["volunteer", "assistant"]);
    expect(await offered("s-001", "e-1")).toEqual(["editor", "lead"]);
    expect(await offered("s-003", "e-1")).toEqual(["editor"]);
    expect(await offered("s-003", "e-5")).toEqual([]);
    expect(await offered("s-009")).toEqual([]);
  });

  it("that a role lasts longer, or ends earlier, is looked at when it would have ended", async () => {
    await sure("s-001", { kind: "assign", person: "s-007", role: "registrar", until: "2026-12-24" });
    const longer = await as("s-001").setExpiry({ person: "s-007", role: "registrar", until: null });
    expect(longer.warnings.map(({ code }) => code)).toContain("gains-sensitive");
    const shorter = await as("s-001").preview({
      kind: "set-expiry",
      person: "s-007",
      role: "registrar",
      until: "2026-12-01",
    });
    expect([shorter.outcome.accepted, shorter.gains.length, shorter.losses.length > 0]).toEqual([true, 0, true]);
    // What has not begun yet is lost when it would have.
    const coming = await as("s-001").preview({ kind: "revoke", person: "s-007", role: "keeper" });
    expect(coming.losses.length).toBeGreaterThan(0);
  });

  it("a preview counts what is gained on real records, and changes nothing", async () => {
    const preview = await as("s-001").preview({ kind: "assign", person: "s-007", role: "registrar" });
    const line = preview.gains.find(
      ({ table, actions, sensitive }) => table === "objects" && actions.includes("view") && sensitive,
    );
    expect(line).toMatchObject({ fields: ["shelf", "insured_value"], records: 400, of: 400 });
    expect(line?.samples).toHaveLength(3);
    expect(preview.losses).toEqual([]);
    expect(await kept.may("s-007")).toEqual(["assistant", "editor of e-2"]);
  });

  it("somebody acts for a head on leave, only while it runs, and without what was left out", async () => {
    expect(await kept.may("s-002", now, "s-003")).toEqual(["assistant", "head", "keeper"]);
    await expect(kept.may("s-002", "2026-12-14T00:00:00Z", "s-003")).rejects.toThrow(/does not act for s-002/);
    await expect(kept.may("s-003", now, "s-002")).rejects.toThrow(/does not act for s-003/);
    expect(codes(await sure("s-002", { kind: "end-delegation", to: "s-003" }))).toBe("accepted");
    await expect(kept.may("s-002", now, "s-003")).rejects.toThrow(/does not act/);
  });

  it("what a delegation leaves out is not acted in, nor what it comes with", async () => {
    await sure("s-003", { kind: "delegate", to: "s-014", without: ["editor"] });
    expect(await kept.may("s-003")).toEqual(["assistant", "editor of e-1", "keeper", "lead of e-1"]);
    expect(await kept.may("s-003", now, "s-014")).toEqual(["assistant", "keeper"]);
  });

  it("whoever acts for another gives in their name, but nothing to themselves, and lets nobody else act", async () => {
    const acting = { actedBy: "s-003" };
    const give = (person: string) => sure("s-002", { kind: "assign", person, role: "volunteer" }, acting);
    expect(codes(await give("s-007"))).toBe("accepted");
    expect(codes(await give("s-003"))).toBe("refused not-while-acting");
    await sure("s-001", { kind: "assign", person: "s-003", role: "volunteer", until: "2026-12-01" });
    const longer = await sure("s-002", { kind: "set-expiry", person: "s-003", role: "volunteer", until: null }, acting);
    expect(codes(longer)).toBe("refused not-while-acting");
    const own = await sure("s-002", { kind: "change-person", person: "s-003", values: { site: "south" } }, acting);
    expect(codes(own)).toBe("refused not-while-acting");
    expect(codes(await sure("s-002", { kind: "delegate", to: "s-007" }, acting))).toBe("refused not-while-acting");
    const made = (await kept.store.auditLog({ person: "s-003" })).find(({ by }) => by === "s-002");
    expect(made).toMatchObject({ kind: "assign", by: "s-002", actedBy: "s-003", person: "s-007" });
  });

  it("nobody lets somebody act for another but they themselves, or who may assign all that they hold", async () => {
    const allow = (assigner: string, of: string, to: string) => sure(assigner, { kind: "delegate", of, to });
    expect(codes(await allow("s-003", "s-001", "s-007"))).toBe("refused may-not-delegate");
    expect(codes(await allow("s-001", "s-011", "s-015"))).toBe("accepted");
    expect(await kept.may("s-011", now, "s-015")).toEqual(["assistant", "head", "keeper"]);
    expect(codes(await allow("s-010", "s-010", "s-001"))).toBe("refused excluded-role");
    expect(codes(await allow("s-010", "s-010", "s-009"))).toBe("refused not-active");
  });

  it("every change is recorded with who, for whom, what, before, after, why and when", async () => {
    const before = (await kept.store.auditLog()).length;
    await sure("s-013", { kind: "assign", person: "s-022", role: "assistant", reason: "Helps out." });
    await sure("s-013", { kind: "revoke", person: "s-022", role: "assistant" });
    await sure("s-003", { kind: "assign", person: "s-003", role: "director" });
    const entries = await kept.store.auditLog();
    expect(entries.length - before).toBe(2);
    expect(entries[1]).toMatchObject({
      kind: "assign",
      by: "s-013",
      actedBy: null,
      person: "s-022",
      reason: "Helps out.",
      before: [],
      after: [{ person: "s-022", role: "assistant", assignedBy: "s-013" }],
      // When it was done, whatever instant it was judged for.
      at: expect.stringMatching(/^20\d\d-\d\d-\d\dT[\d:.]+Z$/),
    });
    expect(entries[1]?.at.slice(0, 10)).not.toBe("2026-11-24");
    expect(entries[0]).toMatchObject({ kind: "revoke", after: [], before: [{ role: "assistant" }] });
  });

  it("an answer that is to be kept is in the record, too", async () => {
    const session = portier.session({ person: "s-002", actedBy: "s-003", source, request: { now } });
    const { permitted, rule } = session.decide("view", "objects", records("objects")[0] as Row, "insured_value");
    const asked = { action: "view", table: "objects", key: "BM-SH-0001", field: "insured_value", permitted, rule };
    await administration(portier, kept.store).logDecision(session, { ...asked, reason: "Asked by the insurer." });
    expect((await kept.store.auditLog({ person: "s-003", limit: 1 }))[0]).toMatchObject({
      kind: "decision",
      by: "s-002",
      actedBy: "s-003",
      details: ["view objects BM-SH-0001 insured_value", "denied by objects/value-stays-in-the-office"],
      reason: "Asked by the insurer.",
    });
  });

  it("the first one who holds a role is made in nobody's name, and nobody after them", async () => {
    const first = () => administration(portier, kept.store).bootstrap({ person: "s-007", role: "treasurer" });
    expect(codes(await first())).toBe("refused bootstrap-not-needed");
  });
});
