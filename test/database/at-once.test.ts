import { Kysely } from "kysely";
import type { Row } from "portier";
import { ConflictError, type Connection, ConstraintError, createDatabase } from "portier/database";
import { accessHandler } from "portier/http";
import { portierDialect } from "portier/kysely";
import { administration, databaseStore, storeMigration } from "portier/people";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { inReading, inTransaction } from "../../src/database/retry.js";
import { allTables, createTables, type Engine, engines, held, store } from "../support/engines.js";
import { portier, record, records } from "../support/museum.js";

// Many clients at once, on the same records: none of what was answered as done is lost, nothing is half done, and whoever
// cannot be served is told so in a way that a program understands.

const bell = "BM-SH-0001";
describe.each(Object.entries(engines))("%s, with many at once", (name, open) => {
  // Embedded engines have one session: what is changed at once waits in turn.
  const many = name === "PostgreSQL" || name === "MariaDB" ? 32 : 8;
  const numbers = Array.from({ length: many }, (_, index) => index);
  let engine: Engine;
  let connection: Connection;
  const tables = allTables(portier.schema);
  const faults: unknown[] = [];

  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
    const quote = engine.dialect.quoteName;
    await engine.run(`create unique index one_label on ${quote("exhibitions")} (${quote("title")})`);
    // Patience is for people; here the machine may be busy with other tests.
    connection = { ...engine.connection, patience: 60_000 };
  });
  beforeEach(async () => {
    faults.length = 0;
    for (const table of tables) await store(engine, table, records(table.name).slice(0, 60));
  });
  afterAll(() => engine?.close());

  const stored = async (table: string): Promise<readonly Row[]> => {
    const declared = tables.find((one) => one.name === table);
    return declared === undefined ? [] : held(engine, declared);
  };
  const objectOf = async (key: string) => (await stored("objects")).find(({ accession }) => accession === key);
  const http = (person: string) => {
    const onError = (error: unknown) => void faults.push(error);
    const handle = accessHandler({ portier, connection, authenticate: () => ({ person }), onError });
    return async (method: string, path: string, body?: unknown, headers: Record<string, string> = {}) => {
      const request = new Request(`http://museum.test${path}`, {
        method,
        headers: { "content-type": "application/json", ...headers },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      });
      return (await handle(request)) as Response;
    };
  };

  it("counts up to as many as there were, each on the version that it had seen", async () => {
    const call = http("s-001");
    await engine.run(
      `update ${engine.dialect.quoteName("objects")} set ${engine.dialect.quoteName("label")} = '0' where accession = '${bell}'`,
    );
    const statuses = new Set<number>();
    const countUp = async () => {
      for (;;) {
        const seen = await call("GET", `/records/objects/${bell}`);
        const { label } = (await seen.json()) as { label: string };
        const values = { label: String(Number(label) + 1) };
        const headers = { "if-match": seen.headers.get("etag") ?? "" };
        const { status } = await call("PATCH", `/records/objects/${bell}`, { values }, headers);
        statuses.add(status);
        if (status === 200) return;
      }
    };
    const counting = numbers.slice(0, 12);
    await Promise.all(counting.map(countUp));
    expect([...statuses].filter((status) => ![200, 412, 503].includes(status))).toEqual([]);
    expect((await objectOf(bell))?.["label"]).toBe(String(counting.length));
    expect(faults).toEqual([]);
  });

  it("changes two records in either order, always both", async () => {
    const call = http("s-001");
    const keys = [bell, "BM-SH-0002"];
    const answers = await Promise.all(
      numbers.map((number) =>
        call("PATCH", "/records/objects", {
          changes: (number % 2 === 0 ? keys : [...keys].reverse()).map((key) => ({
            key,
            values: { label: `of ${number}` },
          })),
        }),
      ),
    );
    expect(new Set(answers.map(({ status }) => status))).toEqual(new Set([200]));
    const labels = await Promise.all(keys.map(async (key) => (await objectOf(key))?.["label"]));
    expect(labels[0]).toMatch(/^of \d+$/);
    expect(labels[1]).toBe(labels[0]);
    expect(faults).toEqual([]);
  });

  it("takes a value that must be unique once, and says so to the others without its owner", async () => {
    const call = http("s-001");
    const made = await Promise.all(
      numbers.map((number) => {
        const values = { ...record("exhibitions", "e-1"), id: `e-new-${number}`, title: "Bells in fog" };
        return call("POST", "/records/exhibitions", { values });
      }),
    );
    expect(made.map(({ status }) => status).sort()).toEqual([201, ...numbers.slice(1).map(() => 409)]);
    const refused = made.find(({ status }) => status === 409);
    expect(await refused?.json()).toEqual({
      type: "urn:portier:problem:constraint",
      title: "Conflict with stored data",
      status: 409,
      detail: "Nothing was done.",
    });
    const edited = await call("PATCH", "/records/exhibitions/e-2", { values: { title: "Bells in fog" } });
    expect(edited.status).toBe(409);
    await expect(
      createDatabase(portier, connection).as("s-001").edit("exhibitions", "e-2", { title: "Bells in fog" }),
    ).rejects.toThrow(ConstraintError);
    expect((await stored("exhibitions")).filter(({ title }) => title === "Bells in fog")).toHaveLength(1);
    expect(faults).toEqual([]);
  });

  it("writes through Kysely as often as it was asked to", async () => {
    const db = new Kysely<Record<string, Record<string, unknown>>>({
      dialect: portierDialect(portier, connection, "s-001"),
    });
    const done = await Promise.all(
      numbers.map((number) =>
        db
          .updateTable("objects")
          .set({ label: `of ${number}` })
          .where("accession", "=", bell)
          .executeTakeFirst(),
      ),
    );
    expect(done.map(({ numUpdatedRows }) => Number(numUpdatedRows))).toEqual(numbers.map(() => 1));
    expect((await objectOf(bell))?.["label"]).toMatch(/^of \d+$/);
    // A transaction of the application's own is its own to begin anew, and it is told when.
    const inTransaction = await Promise.allSettled(
      numbers.map((number) =>
        db.transaction().execute(async (inside) => {
          for (const key of [bell, "BM-SH-0002"]) {
            await inside
              .updateTable("objects")
              .set({ label: `in ${number}` })
              .where("accession", "=", key)
              .execute();
          }
        }),
      ),
    );
    const failed = inTransaction.flatMap((one) => (one.status === "rejected" ? [one.reason] : []));
    expect(failed.filter((error) => !(error instanceof ConflictError))).toEqual([]);
    expect(failed.length).toBeLessThan(many);
    expect((await objectOf("BM-SH-0002"))?.["label"]).toBe((await objectOf(bell))?.["label"]);
  });

  it("assigns each role that is assigned, and keeps an entry of each", async () => {
    const roles = databaseStore(portier, connection);
    const director = administration(portier, roles).as("s-001");
    const exhibitions = records("exhibitions").map(({ id }) => String(id));
    const changes = numbers.map((number) => ({
      person: `s-0${String(2 + (number % 8)).padStart(2, "0")}`,
      role: "editor",
      on: exhibitions[Math.floor(number / 8)] ?? "",
    }));
    const outcomes = await Promise.all(
      changes.map(async (change) => {
        const first = await director.assign(change);
        if (first.accepted || first.reason === "refused") return first;
        return director.assign(change, { confirmed: first.warnings.map(({ id }) => id) });
      }),
    );
    const accepted = outcomes.filter((one) => one.accepted).length;
    expect(accepted).toBeGreaterThan(many / 2);
    expect(await stored("portier_assignments")).toHaveLength(records("portier_assignments").length + accepted);
    expect(await roles.auditLog({ limit: 1_000 })).toHaveLength(accepted);
  });
});

it("waits for no turn that can never come: work that is begun anew and calls from outside of its transaction", async () => {
  const met = Object.assign(new Error("in the way"), { code: "met" });
  let calls = 0;
  const nothing = { accepted: true };
  const connection: Connection = {
    ...({} as Connection),
    patience: 300,
    isConflict: (error) => error === met,
    isDuplicate: () => false,
    query: async () => [],
    // The outer work is begun anew once; what it calls besides is always in somebody's way.
    transaction: async (work) => {
      calls += 1;
      if (calls !== 2) throw met;
      return work({ ...connection, isNested: true });
    },
  };
  const within = () => inTransaction(connection, async () => nothing);
  const outer = inTransaction(connection, async () => {
    await expect(within()).rejects.toThrow(ConflictError);
    return nothing;
  });
  expect(await outer).toBe(nothing);
});

it("begins what only reads anew, too, and says a conflict in the end", async () => {
  const met = new Error("database is locked");
  let left = 3;
  const reading = async <R>(work: (inside: Connection) => Promise<R>): Promise<R> => {
    if (left-- > 0) throw met;
    return work({ ...connection, isNested: true });
  };
  const connection = {
    ...{ patience: 300, isConflict: (error: unknown) => error === met, isDuplicate: () => false, reading },
  } as unknown as Connection;
  expect(await inReading(connection, async () => "read")).toBe("read");
  left = Number.POSITIVE_INFINITY;
  await expect(inReading(connection, async () => "read")).rejects.toMatchObject({ name: "ConflictError", cause: met });
});
