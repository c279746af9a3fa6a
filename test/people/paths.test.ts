import { Kysely } from "kysely";
import type { ChangeResult } from "portier";
import { createDatabase } from "portier/database";
import { accessHandler } from "portier/http";
import { portierDialect } from "portier/kysely";
import { administration, databaseStore, storeMigration } from "portier/people";
import { rowSecurity } from "portier/sql";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, engines, held, store } from "../support/engines.js";
import { portier, records } from "../support/museum.js";

// A volunteer who acted for the director made herself a registrar by an ordinary change of her own record, and the last
// director was taken away by one. Every path on which a record is changed judges that as what it is.

const now = "2026-11-24T09:00:00Z";
const request = { now };
const acting = { person: "s-001", actedBy: "s-008" } as const;
const director = { person: "s-001" } as const;
type Who = { readonly person: string; readonly actedBy?: string };
type Change = { readonly who: Who; readonly key: string; readonly values: Readonly<Record<string, unknown>> };

const wrong: readonly (readonly [string, Change])[] = [
  [
    "a volunteer who acts for the director promotes herself",
    { who: acting, key: "s-008", values: { post: "registrar" } },
  ],
  ["the last director leaves the post", { who: director, key: "s-001", values: { post: "keeper" } }],
  ["the last director is marked as gone", { who: director, key: "s-001", values: { active: false } }],
];
const right: Change = { who: director, key: "s-008", values: { post: "keeper" } };

/** How a record of the staff is changed on each path; whether it was. */
type Path = (engine: Engine, change: Change) => Promise<boolean>;
const paths: Readonly<Record<string, Path>> = {
  "the database": async ({ connection }, { who: { person, ...more }, key, values }) => {
    const outcome = await createDatabase(portier, connection)
      .as({ person, request, ...more })
      .edit("staff", key, values);
    return outcome.accepted;
  },
  "a block of edits": async ({ connection }, { who: { person, ...more }, key, values }) => {
    const changes = [{ key, values }];
    return (
      await createDatabase(portier, connection)
        .as({ person, request, ...more })
        .editEach("staff", changes)
    ).accepted;
  },
  HTTP: async ({ connection }, { who, key, values }) => {
    const handle = accessHandler({ portier, connection, authenticate: () => ({ ...who, request }) });
    const call = { method: "PATCH", headers: { "content-type": "application/json" }, body: JSON.stringify({ values }) };
    const response = await handle(new Request(`http://museum/records/staff/${key}`, call));
    expect([200, 403]).toContain(response?.status);
    if (response?.status === 403) expect(await response.text()).toContain("role-change");
    return response?.status === 200;
  },
  Kysely: async ({ connection }, { who: { person, ...more }, key, values }) => {
    const dialect = portierDialect(portier, connection, { person, request, ...more });
    const db = new Kysely<{ staff: { id: string; post: string; active: boolean } }>({ dialect });
    const update = db.updateTable("staff").set(values).where("id", "=", key);
    return update.execute().then(
      () => true,
      (error: unknown) => {
        expect(error).toMatchObject({ outcome: { refusals: [{ reason: "role-change" }] } });
        return false;
      },
    );
  },
  administration: async ({ connection }, { who: { person, ...more }, key, values }) => {
    const administrator = administration(portier, databaseStore(portier, connection)).as({ person, request, ...more });
    const change = { kind: "change-person", person: key, values } as const;
    const { warnings } = await administrator.make(change);
    return (await administrator.make(change, { confirmed: warnings.map(({ id }) => id) })).accepted;
  },
};

describe.each(Object.entries(engines))("who holds what on %s", (name, open) => {
  let engine: Engine;
  const tables = allTables(portier.schema);
  const staff = tables.find((table) => table.name === "staff");
  if (staff === undefined) throw new Error("no staff");
  const posts = async () => new Map((await held(engine, staff)).map((row) => [row["id"], row["post"]]));
  const delegation = {
    ...{ id: "d-1", of: "s-001", to: "s-008", from: null, until: null },
    ...{ without: null, assignedBy: "s-001", reason: null },
  };

  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
  });
  beforeEach(async () => {
    for (const table of tables)
      await store(engine, table, table.name === "portier_delegations" ? [delegation] : records(table.name));
  });
  afterAll(() => engine?.close());

  describe.each(Object.entries(paths))("over %s", (_path, change) => {
    it.each(wrong)("is as it was when %s", async (_what, one) => {
      const before = await held(engine, staff);
      expect(await change(engine, one)).toBe(false);
      expect(await held(engine, staff)).toEqual(before);
    });

    it("changes when it is the director's to give", async () => {
      expect(await change(engine, right)).toBe(true);
      expect((await posts()).get("s-008")).toBe("keeper");
    });

    it("keeps one director when two leave at the same time", async () => {
      await store(
        engine,
        staff,
        records("staff").map((row) => (row["id"] === "s-011" ? { ...row, post: "director" } : row)),
      );
      const leaves = ["s-001", "s-011"].map((person) =>
        change(engine, { who: { person }, key: person, values: { active: false } }).catch(() => false),
      );
      expect((await Promise.all(leaves)).filter(Boolean).length).toBeLessThan(2);
      const left = (await held(engine, staff)).filter((row) => row["post"] === "director" && row["active"] === true);
      expect(left).toHaveLength(1);
    });
  });

  it("does not lose the last director to who deletes the record", async () => {
    const outcome = await createDatabase(portier, engine.connection)
      .as({ person: "s-001", request })
      .delete("staff", "s-001");
    expect(outcome.accepted).toBe(false);
  });

  if (!name.startsWith("P")) return;
  it("is not changed by SQL behind row security, whoever asks", async () => {
    const schema = `seen_${Math.floor(Math.random() * 1e6)}`;
    const { migration, warnings } = rowSecurity(portier, { schema, tables: engine.schema ?? "public" });
    expect(warnings.join()).toContain("no statement of SQL changes who holds what");
    await engine.script?.(migration);
    for (const { who, key, values } of [...wrong.map(([, one]) => one), right]) {
      const [[column, value] = ["", ""]] = Object.entries(values);
      const changing = engine.connection.transaction(async (inside) => {
        await inside.query(`select ${schema}.set_person($1)`, [who.person]);
        await inside.query(`update ${schema}.staff set ${column} = $1 where id = $2`, [value, key]);
      });
      await expect(changing).rejects.toThrow(/not permitted: edit staff \((post|active)\)/);
    }
    await engine.script?.(rowSecurity(portier, { schema, tables: engine.schema ?? "public" }).removal);
  });
});

describe("who holds what in a session", () => {
  it("is not changed where nobody can tell who else does", () => {
    const [row] = records("staff").filter(({ id }) => id === "s-008");
    const [own] = records("staff").filter(({ id }) => id === "s-001");
    const alone = portier.session({
      person: own ?? null,
      source: { find: () => undefined, referring: () => [] },
      request,
    });
    const outcome: ChangeResult = alone.checkEdit("staff", row, { post: "keeper" });
    expect(outcome).toMatchObject({
      accepted: false,
      refusals: [{ field: "post", reason: "role-change", cause: "needs-source" }],
    });
  });
});
