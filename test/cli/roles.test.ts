import { cpSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import sqliteModule from "node-sqlite3-wasm";
import { storeMigration } from "portier/people";
import { createTables, sqlite } from "portier/sql";
import { sqliteConnection } from "portier/sqlite";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Ran, waitForCli } from "../support/cli.js";
import { allTables, type Engine, fill, servers } from "../support/engines.js";
import { museumFolder, portier, records } from "../support/museum.js";

const folder = mkdtempSync(join(tmpdir(), "portier-roles-"));
afterAll(() => rmSync(folder, { recursive: true }));
const file = join(folder, "museum.portier.yaml");
const at = ["--at", "2026-11-24T09:00:00Z"];

async function filled(engine: Engine): Promise<Engine> {
  const statements = createTables(portier.schema, engine.dialect);
  const references = statements.filter((statement) => statement.startsWith("alter"));
  for (const statement of statements.filter((one) => !references.includes(one))) await engine.run(statement);
  for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
  for (const table of allTables(portier.schema)) await fill(engine, table, records(table.name));
  return engine;
}

async function sqliteFile(): Promise<Engine> {
  const address = join(folder, "museum.db");
  const database = new sqliteModule.Database(address);
  database.exec("pragma foreign_keys = off");
  const connection = sqliteConnection(database);
  const engine = {
    ...{ connection, dialect: sqlite, address, columnType: () => "", misfit: () => undefined, close: async () => {} },
    run: (text: string, params: readonly unknown[] = []) => connection.query(text, params),
  };
  await filled(engine);
  // The command opens the file itself.
  database.close();
  return engine;
}

const places: Readonly<Record<string, () => Promise<{ data: string; close: () => Promise<unknown> }>>> = {
  "a folder": async () => ({ data: join(folder, "data"), close: async () => {} }),
  SQLite: async () => {
    const { address = "", close } = await sqliteFile();
    return { data: address, close };
  },
  ...Object.fromEntries(
    servers.map(([name, open]) => [
      name,
      async () => {
        const { address = "", close } = await filled(await open());
        return { data: address, close };
      },
    ]),
  ),
};

describe.each(Object.entries(places))("roles by command, in %s", (_name, open) => {
  let place: Awaited<ReturnType<typeof open>>;
  beforeAll(async () => {
    for (const name of ["museum.portier.yaml", "museum.roles.json", "data"]) {
      cpSync(join(museumFolder, name), join(folder, name), { recursive: true });
    }
    place = await open();
  });
  afterAll(() => place?.close());

  const run = (command: string, ...words: string[]): Promise<Ran> =>
    waitForCli([command, file, ...words, "--data", place.data, ...(command === "audit" ? [] : at)]);

  it("are given after their warnings were read, and are then held, recorded, and taken away", async () => {
    const words = ["s-007", "registrar", "--as", "s-001", "--until", "2027-06-30", "--reason", "Stocktaking."];
    const asked = await run("assign", ...words);
    expect(asked.code).toBe(1);
    expect(asked.out).toContain("s-007 Noor Castellan is assigned registrar until 2027-06-30, by s-001 Ines Okoro");
    expect(asked.out).toMatch(
      /warning {2}Person "s-007" will be able to see, edit, export sensitive fields of "objects": shelf, insured_value/,
    );
    expect(asked.out).toMatch(/\+ +objects +list, view, edit, export +400 of 400 +sensitive: shelf, insured_/);
    expect(asked.out).toContain("not done");
    expect((await run("members", "registrar")).out).not.toContain("Noor");

    expect((await run("assign", ...words, "--preview", "--confirm")).code).toBe(0);
    expect((await run("members", "registrar")).out).not.toContain("Noor");

    expect(await run("assign", ...words, "--confirm")).toMatchObject({ code: 0 });
    expect((await run("members", "registrar")).out).toMatch(
      /s-007 +Noor Castellan +from assignments by s-001 until 2027-06-30/,
    );
    expect((await run("members", "--ending", "300")).out).toMatch(/2027-06-30 +s-007 Noor Castellan +registrar/);
    expect((await run("audit")).out).toMatch(
      /assign {2}s-007 Noor Castellan\n {4}\+ person s-007, role registrar, until 2027-06-30\n {4}by s-001 Ines Okoro: Stocktaking\./,
    );

    // For ever is more than for a time, and is said to be.
    const longer = ["s-007", "registrar", "--as", "s-001", "--until", "never"];
    expect(await run("revoke", ...longer)).toMatchObject({
      code: 1,
      out: expect.stringContaining("will be able to see, edit, export"),
    });
    expect((await run("revoke", ...longer, "--confirm")).code).toBe(0);
    expect((await run("revoke", "s-007", "registrar", "--as", "s-001")).out).toMatch(/- +objects +list, view/);
    expect((await run("members", "registrar")).out).not.toContain("Noor");
    const { entries } = JSON.parse((await run("audit", "--format", "json")).out);
    expect(entries.map(({ kind }: { kind: string }) => kind)).toEqual(["revoke", "set-expiry", "assign"]);
  });

  it("somebody acts for another until it is ended", async () => {
    expect(await run("delegate", "s-015", "--as", "s-011", "--until", "2027-01-07", "--confirm")).toMatchObject({
      code: 0,
    });
    const ended = await run("delegate", "s-015", "--as", "s-011", "--end");
    expect(ended.out).toMatch(/no longer acts for s-011 Anselm Roux[\s\S]*loses[\s\S]*done/);
    expect((await run("delegate", "s-015", "--as", "s-011", "--end")).out).toContain(
      'Person "s-015" does not act for "s-011"',
    );
  });

  it("changes a role in one act, after saying what comes of it", async () => {
    const words = ["s-023", "lead", "--instead-of", "editor", "--on", "e-5", "--as", "s-001"];
    const asked = await run("assign", ...words);
    expect(asked).toMatchObject({ code: 1 });
    expect(asked.out).toMatch(/Rafe Imanov is assigned lead of e-5 instead of editor[\s\S]*warning[\s\S]*not done/);
    expect((await run("assign", ...words, "--confirm")).code).toBe(0);
    expect((await run("audit")).out).toMatch(/replace/);
  });

  it.each([
    [["assign", "s-007", "Keeper", "--as", "s-001"], 1, /Unknown role "Keeper"\. Did you mean "keeper"\?/],
    [["assign", "s-7", "head", "--as", "s-001"], 1, /Unknown person "s-7"/],
    [
      ["assign", "s-007", "head", "--as", "s-002"],
      1,
      /You may not assign or revoke role "head"\. It may be assigned by director\./,
    ],
    [
      ["assign", "s-007", "head", "--instead-of", "keeper", "--as", "s-002"],
      1,
      /may not assign or revoke role "keeper"/,
    ],
    [["assign", "s-007", "lead", "--instead-of", "lead", "--on", "e-2", "--as", "s-001"], 1, /cannot replace itself/],
    [["revoke", "s-001", "director", "--as", "s-001"], 1, /It comes from "post", so revoke it there/],
    [["assign", "s-007", "director", "--bootstrap"], 1, /can already be assigned by director/],
  ])("%s is refused with what to do", async (words, code, says) => {
    const [command = "", ...more] = words as string[];
    const ran = await run(command, ...more);
    expect(ran.out).toMatch(says);
    expect(ran.code).toBe(code);
  });

  it.each([
    [["assign", "s-007", "keeper"], /Name the person who makes the change: --as PERSON/],
    [["assign", "s-007", "head", "--as", "s-001", "--until", "soon"], /"until" must be a date/],
    [["assign", "s-023", "lead", "--instead-of", "editor", "--from", "2027-01-01"], /--instead-of counts at once/],
    [["audit", "--limit", "none"], /--limit takes a number/],
    [["members", "--ending", "soon"], /--ending takes a number of days/],
  ])("%s cannot run, and says why", async (words, says) => {
    const [command = "", ...more] = words as string[];
    const ran = await run(command, ...more);
    expect(ran.err).toMatch(says);
    expect(ran.code).toBe(2);
  });
});
