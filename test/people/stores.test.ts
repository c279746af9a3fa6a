import { type ChildProcess, spawn } from "node:child_process";
import { mkdirSync, mkdtempSync, readFileSync, rmSync, utimesSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { createPool } from "mysql2/promise";
import pg from "pg";
import { compile, type Row } from "portier";
import type { Connection } from "portier/database";
import { jsonFileStore } from "portier/directory";
import { mysql2Connection } from "portier/mysql2";
import { administration, databaseStore, memoryStore, type RoleStore, storeMigration } from "portier/people";
import { pgConnection } from "portier/pg";
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import type { Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";

/** A small museum whose people hold what they are assigned and nothing else: a keeper of keys there must always be. */
const document = {
  portier: 1,
  people: { table: "staff", active: "active", assignments: true },
  roles: { chief: { minHolders: 1, assignableBy: "chief" }, guide: { assignableBy: "chief" } },
  tables: {
    staff: {
      key: "id",
      fields: { id: "text", active: "boolean" },
      rules: {
        all: { to: "signed-in", permit: { view: "all" } },
        chiefs: { to: "chief", permit: { edit: ["active"] } },
      },
    },
  },
} as const;
const portier = compile(document);
const staff = ["p1", "p2", "p3"].map((id) => ({ id, active: true }));
const source = portier.source({ staff });
const assignment = (id: string, person: string, role: string) => ({
  ...{ id, person, role, on: null, from: null, until: null, assignedBy: null, reason: null },
});
const twoChiefs = [assignment("1", "p1", "chief"), assignment("2", "p2", "chief")];

/** The same store, as two programs have it. */
interface Twice {
  readonly stores: readonly [RoleStore, RoleStore];
  readonly reset: () => Promise<void>;
  readonly close: () => Promise<void>;
  readonly engine?: Engine;
}

const kinds: Readonly<Record<string, () => Promise<Twice>>> = {
  memory: async () => {
    let store = memoryStore(portier, { source, assignments: twoChiefs });
    return {
      get stores() {
        return [store, store] as const;
      },
      reset: async () => {
        store = memoryStore(portier, { source, assignments: twoChiefs });
      },
      close: async () => {},
    };
  },
  "a JSON file": async () => {
    const folder = mkdtempSync(join(tmpdir(), "portier-"));
    const file = join(folder, "roles.json");
    const open = () => jsonFileStore(portier, file, { source });
    return {
      stores: [open(), open()],
      reset: async () => {
        rmSync(`${file}.audit`, { force: true });
        writeFileSync(file, JSON.stringify({ version: 0, assignments: twoChiefs, delegations: [] }));
      },
      close: async () => rmSync(folder, { recursive: true }),
    };
  },
  ...Object.fromEntries(Object.entries(engines).map(([name, openEngine]) => [name, () => onDatabase(openEngine)])),
};

async function onDatabase(openEngine: () => Promise<Engine>): Promise<Twice> {
  const engine = await openEngine();
  await createTables(engine, portier.schema);
  for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
  const other = otherProgram(engine);
  return {
    engine,
    stores: [databaseStore(portier, engine.connection), databaseStore(portier, other.connection)],
    reset: async () => {
      await storeAll(engine, portier.schema, { staff, portier_assignments: twoChiefs });
    },
    close: async () => {
      await other.close();
      await engine.close();
    },
  };
}

/** A pool of its own on a server; what is embedded has one session. */
function otherProgram({ address, connection, dialect }: Engine): {
  connection: Connection;
  close: () => Promise<void>;
} {
  if (address === undefined) return { connection, close: async () => {} };
  if (dialect.name === "postgres") {
    const pool = new pg.Pool({ connectionString: address });
    pool.on("error", () => {});
    return { connection: pgConnection(pool), close: () => pool.end() };
  }
  const pool = createPool({ uri: address, charset: "utf8mb4" });
  return { connection: mysql2Connection(pool), close: () => pool.end() };
}

describe.each(Object.entries(kinds))("who holds what, kept in %s", (_name, open) => {
  let twice: Twice;
  beforeAll(async () => {
    twice = await open();
  });
  beforeEach(() => twice.reset());
  afterAll(() => twice.close());

  const assigned = (store: RoleStore) =>
    store.read((state) =>
      ["chief", "guide"].flatMap((role) =>
        [...(state.referring?.("portier_assignments", "role", role) ?? [])].map((row) => `${row["person"]} ${role}`),
      ),
    );

  it("does not lose the last chief to two who both go at the same time", async () => {
    for (let round = 0; round < 5; round++) {
      await twice.reset();
      // Each goes by themselves: nothing but the number of those who are left keeps one of them.
      const outcomes = await Promise.all(
        (["p1", "p2"] as const).map((person, index) =>
          administration(portier, twice.stores[index] as RoleStore)
            .as(person)
            .revoke({ person, role: "chief" }, { confirmed: ["loses-assignable-roles chief guide"] }),
        ),
      );
      expect(outcomes.filter(({ accepted }) => accepted)).toHaveLength(1);
      expect(outcomes).toContainEqual(
        expect.objectContaining({ problems: [expect.objectContaining({ code: "last-holders" })] }),
      );
      expect(await assigned(twice.stores[0])).toHaveLength(1);
      expect(await assigned(twice.stores[1])).toEqual(await assigned(twice.stores[0]));
    }
  });

  it("makes a first chief in nobody's name, and no second one", async () => {
    const [store] = twice.stores;
    const { bootstrap, as } = administration(portier, store);
    expect(await bootstrap({ person: "p3", role: "chief" })).toMatchObject({
      problems: [{ code: "bootstrap-not-needed" }],
    });
    // As it is in a museum where nobody was assigned anything yet.
    await store.change(async (inside) => {
      const table = portier.schema.kept?.assignments as Table;
      const rows = await inside.read((state) => [...(state.all?.(table.name) ?? [])]);
      await inside.write(
        rows.map((before) => ({ table, before, after: undefined })),
        [],
      );
    });
    expect(await as("p1").assign({ person: "p3", role: "guide" })).toMatchObject({
      problems: [{ code: "may-not-assign" }],
    });
    expect(await bootstrap({ person: "p3", role: "chief" })).toMatchObject({ accepted: true });
    expect(await bootstrap({ person: "p2", role: "chief" })).toMatchObject({
      problems: [{ code: "bootstrap-not-needed" }],
    });
    expect(await assigned(store)).toEqual(["p3 chief"]);
  });

  it("tells the other program of a change, and there it counts", async () => {
    const [one, two] = twice.stores;
    let stop = async () => {};
    const told = new Promise<void>((resolve) => {
      two.watch(resolve).then(
        (end) => {
          stop = end;
          return administration(portier, one).as("p1").assign({ person: "p3", role: "guide" });
        },
        () => {},
      );
    });
    await told;
    expect(await assigned(two)).toContain("p3 guide");
    await stop();
  });

  // Each who watched once held a connection of the pool: a handful of windows stopped the application.
  it("is watched by any number, who take no connection from those who work", async () => {
    const [one, two] = twice.stores;
    const told = new Set<number>();
    const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
    // One that fails kept the others from hearing, and in memory the change itself, which was done, from saying so.
    const stopFailing = await two.watch(() => {
      throw new Error("the window is gone");
    });
    const stops = await Promise.all(Array.from({ length: 40 }, (_, number) => two.watch(() => told.add(number))));
    expect(await administration(portier, two).as("p1").assign({ person: "p3", role: "guide" })).toMatchObject({
      accepted: true,
    });
    await vi.waitFor(() => expect(told.size).toBe(40), { timeout: 10_000 });
    expect(warn.mock.calls.join()).toContain("the window is gone");
    await stopFailing();
    warn.mockRestore();
    await Promise.all(stops.slice(1).map((stop) => stop()));
    told.clear();
    await administration(portier, one).as("p1").revoke({ person: "p3", role: "guide" });
    await vi.waitFor(() => expect([...told]).toEqual([0]), { timeout: 10_000 });
    await stops[0]?.();
  });

  it("keeps neither a change nor the record of it when it fails in the middle", async () => {
    const [store, other] = twice.stores;
    const before = [await assigned(store), await store.auditLog()];
    const failing = store.change(async (inside) => {
      await inside.read((state) => state.find("staff", "p1"));
      throw new Error("the program fails here");
    });
    await expect(failing).rejects.toThrow("the program fails here");
    expect([await assigned(other), await other.auditLog()]).toEqual(before);
    expect(await administration(portier, store).as("p1").assign({ person: "p3", role: "guide" })).toMatchObject({
      accepted: true,
    });
  });
});

const servers = Object.entries(kinds).filter(([name]) => name === "PostgreSQL" || name === "MariaDB");

describe.each(servers)("on %s", (_name, open) => {
  let twice: Twice;
  beforeAll(async () => {
    twice = await open();
  });
  beforeEach(() => twice.reset());
  afterAll(() => twice.close());

  it.each(["delete from", "insert into portier_audit_log", "update portier_state"])(
    "a link that is cut at “%s” leaves everything as it was",
    async (step) => {
      const engine = twice.engine as Engine;
      const cutting: Connection = {
        ...engine.connection,
        transaction: (work) =>
          engine.connection.transaction((inside) =>
            work({
              ...inside,
              query: async (text, params) => {
                if (text.toLowerCase().startsWith(step)) await inside.query(engine.cut ?? "", []);
                return inside.query(text, params);
              },
            }),
          ),
      };
      const entries = await twice.stores[1].auditLog();
      const failing = administration(portier, databaseStore(portier, cutting)).as("p1");
      await expect(failing.revoke({ person: "p2", role: "chief" })).rejects.toThrow();
      const held = await engine.run("select person from portier_assignments order by person");
      expect(held.map(({ person }) => person)).toEqual(["p1", "p2"]);
      expect(await twice.stores[1].auditLog()).toEqual(entries);
    },
  );
});

describe.each(Object.entries(kinds).filter(([name]) => Object.hasOwn(engines, name)))(
  "the record on %s",
  (name, open) => {
    let twice: Twice;
    beforeAll(async () => {
      twice = await open();
      await twice.reset();
      const chief = administration(portier, twice.stores[0]).as("p1");
      await chief.assign({ person: "p3", role: "guide", reason: "one" });
      await chief.revoke({ person: "p3", role: "guide", reason: "zwei ü 🔑" });
      await chief.assign({ person: "p2", role: "guide" });
      await administration(portier, twice.stores[0]).logDecision({ person: "p1", actedBy: undefined }, {
        action: "view",
        table: "staff",
        permitted: true,
        reason: "asked",
      } as never);
    });
    afterAll(() => twice.close());
    const run = (text: string) => (twice.engine as Engine).run(text);
    const columns = "at, kind, by_person, acted_by, person, before_state, after_state, reason, details, digest";
    const others = columns.replace("reason", "'other'");

    it("can be added to, and nothing else", async () => {
      const isSqlite = name === "SQLite";
      const isMariadb = name === "MariaDB";
      const replace = `replace into portier_audit_log (number, ${columns}) select number, ${others} from portier_audit_log where number = 2`;
      const upsert = `insert into portier_audit_log (number, ${columns}) select number, ${columns} from portier_audit_log where number = 2`;
      for (const [statement, says] of [
        ["update portier_audit_log set kind = 'other'", /stays as it is/],
        ["update portier_audit_log set number = number + 10", /stays as it is|only be updated to DEFAULT/],
        ["delete from portier_audit_log", /stays as it is/],
        ["delete from portier_audit_log where number = 4", /stays as it is/],
        ...(isSqlite
          ? ([
              [replace, /stays as it is/],
              [`insert or ${replace}`, /stays as it is/],
              [`${upsert} and true on conflict (number) do update set kind = 'other'`, /stays as it is/],
              ["update or replace portier_audit_log set number = 1 where number = 2", /stays as it is/],
            ] as const)
          : []),
        ...(isMariadb
          ? ([
              [replace, /stays as it is/],
              [`${upsert} on duplicate key update kind = 'other'`, /stays as it is/],
              ["truncate table portier_audit_log", /foreign key/i],
            ] as const)
          : []),
        ...(!isSqlite && !isMariadb
          ? ([
              ["truncate portier_audit_log", /stays as it is/],
              ["truncate portier_audit_log cascade", /stays as it is/],
            ] as const)
          : []),
      ] as const) {
        await expect(run(statement), statement).rejects.toThrow(says);
      }
      expect(await twice.stores[0].verifyAuditLog()).toMatchObject({ entries: 4 });
    });

    it("shows what whoever may change the tables themselves did to it", async () => {
      const whole = await twice.stores[0].verifyAuditLog();
      expect(whole).toEqual({ entries: 4, head: expect.stringMatching(/^[0-9a-f]{64}$/) });
      const isPostgres = name.startsWith("P");
      const open = isPostgres
        ? ["alter table portier_audit_log disable trigger all"]
        : name === "SQLite"
          ? ["drop trigger portier_record_update", "drop trigger portier_record_delete"]
          : ["drop trigger portier_record_update", "drop trigger portier_record_delete"];
      for (const statement of open) await run(statement);
      await run("create table kept_record as select * from portier_audit_log");
      const restore = async () => {
        await run("delete from portier_audit_log");
        const numbered = isPostgres ? " overriding system value" : "";
        await run(
          `insert into portier_audit_log (number, ${columns})${numbered} select number, ${columns} from kept_record`,
        );
      };
      for (const [statement, problem] of [
        ["update portier_audit_log set reason = 'other' where number = 2", "changed"],
        ["update portier_audit_log set at = '2020-01-01T00:00:00Z' where number = 4", "changed"],
        ["delete from portier_audit_log where number = 2", "changed"],
        ["delete from portier_audit_log where number = 1", "changed"],
        ["delete from portier_audit_log where number = 4", "truncated"],
        ["delete from portier_audit_log", "truncated"],
      ] as const) {
        await run(statement);
        expect(await twice.stores[0].verifyAuditLog(), statement).toMatchObject({ problem });
        await restore();
        expect(await twice.stores[0].verifyAuditLog({ knownDigest: whole.head }), statement).toEqual(whole);
      }
      expect(await twice.stores[0].verifyAuditLog({ knownDigest: "0".repeat(64) })).toMatchObject({
        problem: "unknown-digest",
      });
    });
  },
);

describe.each(servers.filter(([name]) => name === "PostgreSQL"))("on %s alone", (_name, open) => {
  it("whoever watches hears of changes after the link was cut, too", async () => {
    const twice = await open();
    await twice.reset();
    const [one, two] = twice.stores;
    let tell = () => {};
    const stop = await two.watch(() => tell());
    await twice.engine?.run(
      "select pg_terminate_backend(pid) from pg_stat_activity where query like 'listen%' and pid <> pg_backend_pid()",
    );
    const told = new Promise<void>((resolve) => {
      tell = resolve;
    });
    await administration(portier, one).as("p1").assign({ person: "p3", role: "guide" });
    await told;
    await stop();
    await twice.close();
  });
});

describe("a JSON file", () => {
  const folder = mkdtempSync(join(tmpdir(), "portier-"));
  const file = join(folder, "roles.json");
  const record = `${file}.audit`;
  const open = () => jsonFileStore(portier, file, { source });
  const given = (text: string) => (JSON.parse(text) as { assignments: Row[] }).assignments;
  beforeEach(() => {
    rmSync(record, { force: true });
    writeFileSync(file, JSON.stringify({ version: 0, assignments: twoChiefs, delegations: [] }));
  });
  afterAll(() => rmSync(folder, { recursive: true }));

  it("catches up with a line that was written before the state was", async () => {
    const before = readFileSync(file, "utf8");
    await administration(portier, open()).as("p1").assign({ person: "p3", role: "guide" });
    writeFileSync(file, before);
    expect(await open().verifyAuditLog()).toEqual({ entries: 1, head: expect.stringMatching(/^[0-9a-f]{64}$/) });
    await administration(portier, open()).as("p1").assign({ person: "p2", role: "guide" });
    expect(given(readFileSync(file, "utf8")).map(({ person, role }) => `${person} ${role}`)).toEqual([
      "p1 chief",
      "p2 chief",
      "p3 guide",
      "p2 guide",
    ]);
  });

  it("drops a line that was not written whole", async () => {
    await administration(portier, open()).as("p1").assign({ person: "p3", role: "guide" });
    writeFileSync(record, `${readFileSync(record, "utf8")}{"version":2,"writes":[{"table":"portier_as`);
    await administration(portier, open()).as("p1").revoke({ person: "p3", role: "guide" });
    expect((await open().auditLog()).map(({ kind }) => kind)).toEqual(["revoke", "assign"]);
    expect(await open().verifyAuditLog()).toMatchObject({ entries: 2 });
  });

  it("that cannot be read for a while is watched on", async () => {
    const store = open();
    let told = 0;
    const stop = await store.watch(() => told++);
    const before = readFileSync(file, "utf8");
    writeFileSync(file, "{");
    await new Promise((resolve) => setTimeout(resolve, 600));
    writeFileSync(file, before);
    await administration(portier, open()).as("p1").assign({ person: "p3", role: "guide" });
    await vi.waitFor(() => expect(told).toBe(1), { timeout: 10_000 });
    await stop();
  });

  it("that was taken away is an error, not a museum in which nobody holds anything", async () => {
    rmSync(file);
    expect((await open().auditLog()).length).toBe(0);
    await administration(portier, open()).bootstrap({ person: "p1", role: "chief" });
    rmSync(file);
    expect([...(open().source.referring?.("portier_assignments", "person", "p1") ?? [])]).toHaveLength(1);
    await administration(portier, open()).as("p1").assign({ person: "p2", role: "guide" });
    rmSync(file);
    expect(open).toThrow(/roles\.json is not there, but .*roles\.json\.audit is/);
  });

  it("is taken over from a process that left it locked", async () => {
    mkdirSync(`${file}.lock`);
    utimesSync(`${file}.lock`, new Date(0), new Date(0));
    const outcome = await administration(portier, open()).as("p1").assign({ person: "p3", role: "guide" });
    expect(outcome.accepted).toBe(true);
  });

  it.each([
    ["{", /is not JSON/],
    ["[]", /does not hold who holds what/],
    ['{"version":1}', /does not hold/],
  ])("that holds %s is an error with its name, and nothing is permitted", (text, says) => {
    writeFileSync(file, text);
    expect(open).toThrow(says);
    expect(open).toThrow(file);
  });

  // A process that slept longer than its lock lives once wrote over what others had done meanwhile.
  it("does not lose what was done while a process that held it was asleep", async () => {
    const child = fileURLToPath(new URL("../support/child-sleeper.mjs", import.meta.url));
    const run = spawn(process.execPath, [child, file, JSON.stringify(document), JSON.stringify({ staff })], {
      stdio: ["ignore", "pipe", "inherit"],
    });
    const said: string[] = [];
    run.stdout?.on("data", (part) => said.push(String(part)));
    const ended = new Promise((resolve) => run.once("exit", resolve));
    await vi.waitFor(() => expect(said.join("")).toContain("judged"), { timeout: 10_000 });
    run.kill("SIGSTOP");
    const mine = administration(portier, open()).as("p1");
    expect(await mine.assign({ person: "p2", role: "guide" })).toMatchObject({ accepted: true });
    expect(await mine.setExpiry({ person: "p2", role: "guide", until: "2030-01-01" })).toMatchObject({
      accepted: true,
    });
    run.kill("SIGCONT");
    await ended;
    // It found that it was late, and did it again on what is there now.
    expect(said.join("")).toContain("judged\njudged");
    const guides = given(readFileSync(file, "utf8")).flatMap(({ person, role }) => (role === "guide" ? [person] : []));
    expect(guides).toEqual(["p2", "p3"]);
    expect((await open().auditLog()).map(({ person }) => person)).toEqual(["p3", "p2", "p2"]);
    expect(await open().verifyAuditLog()).toMatchObject({ entries: 3 });
    expect([...(open().source.referring?.("portier_assignments", "role", "guide") ?? [])]).toHaveLength(2);
  });

  it.each<[string, (lines: string[]) => string[], string]>([
    ["changed", ([a, b = "", ...more]) => [a ?? "", b.replace("p3", "p2"), ...more], "changed"],
    ["taken out", ([a, , ...more]) => [a ?? "", ...more], "missing"],
    ["taken out at the beginning", ([, ...more]) => more, "missing"],
    ["taken out at the end", (lines) => lines.slice(0, -1), "truncated"],
    ["put in the place of another", ([a = "", b = "", ...more]) => [b, a, ...more], "missing"],
  ])("a line that was %s is found", async (_what, change, problem) => {
    const chief = administration(portier, open()).as("p1");
    await chief.assign({ person: "p3", role: "guide" });
    await chief.revoke({ person: "p3", role: "guide" });
    await chief.assign({ person: "p2", role: "guide" });
    const whole = await open().verifyAuditLog();
    expect(whole).toEqual({ entries: 3, head: expect.stringMatching(/^[0-9a-f]{64}$/) });
    const lines = readFileSync(record, "utf8").trimEnd().split("\n");
    writeFileSync(record, `${change(lines).join("\n")}\n`);
    expect(await open().verifyAuditLog()).toMatchObject({ problem });
    // Written anew as a whole, it is another one: a head that was noted is not in it.
    writeFileSync(record, `${lines.join("\n")}\n`);
    expect(await open().verifyAuditLog({ knownDigest: whole.head })).toEqual(whole);
    expect(await open().verifyAuditLog({ knownDigest: "0".repeat(64) })).toMatchObject({ problem: "unknown-digest" });
  });

  it("is whole whenever a process is killed, and the record says all that was done", async () => {
    const child = fileURLToPath(new URL("../support/child-store.mjs", import.meta.url));
    for (let round = 0; round < 3; round++) {
      const run = spawn(process.execPath, [child, file, JSON.stringify(document), JSON.stringify({ staff })], {
        stdio: ["ignore", "pipe", "inherit"],
      });
      await ready(run);
      await new Promise((resolve) => setTimeout(resolve, 40 + 35 * round));
      const ended = new Promise((resolve) => run.once("exit", resolve));
      run.kill("SIGKILL");
      await ended;
      // The next one to change something brings state and record together.
      const outcome = await administration(portier, open()).as("p1").assign({ person: "p2", role: "guide" });
      expect(outcome.accepted).toBe(true);
      await administration(portier, open()).as("p1").revoke({ person: "p2", role: "guide" });
      // What a process that was killed had begun to write stands there, and says nothing.
      const texts = readFileSync(record, "utf8").trimEnd().split("\n");
      const lines = texts.filter((text) => text.startsWith("{") && text.endsWith("}"));
      const { version } = JSON.parse(readFileSync(file, "utf8"));
      expect(lines.length).toBe(version);
      expect(await open().verifyAuditLog()).toMatchObject({ entries: version });
      const replayed = lines.reduce(
        (rows, line) => {
          const { writes } = JSON.parse(line) as { writes: { before?: Row; after?: Row }[] };
          return writes.reduce(
            (left, { before, after }) => [
              ...left.filter(({ id }) => id !== before?.["id"]),
              ...(after === undefined ? [] : [after]),
            ],
            rows,
          );
        },
        twoChiefs as readonly Row[],
      );
      expect(given(readFileSync(file, "utf8"))).toEqual(replayed);
    }
  });
});

function ready(run: ChildProcess): Promise<void> {
  return new Promise((resolve, reject) => {
    run.stdout?.once("data", () => resolve());
    run.once("exit", () => reject(new Error("the process ended by itself")));
  });
}
