import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import fc from "fast-check";
import sqliteModule from "node-sqlite3-wasm";
import { compileText } from "portier/document";
import { createTables, sqlite } from "portier/sql";
import { sqliteConnection } from "portier/sqlite";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { waitForCli } from "../support/cli.js";
import { allTables, type Engine, fill, servers } from "../support/engines.js";
import { museumData, museumFile, portier, records } from "../support/museum.js";
import { runsOf } from "../support/runs.js";

const folder = mkdtempSync(join(tmpdir(), "portier-database-"));
afterAll(() => rmSync(folder, { recursive: true }));
const now = ["--at", "2026-11-24T09:00:00Z"];

/** The commands need a database that they can open by its address; SQLite's is a file. */
async function openFile(): Promise<Engine> {
  const address = join(folder, "museum.db");
  const database = new sqliteModule.Database(address);
  // The tables refer to each other in circles, and are filled one after the other.
  database.exec("pragma foreign_keys = off");
  const connection = sqliteConnection(database);
  return {
    connection,
    dialect: sqlite,
    address,
    run: (text, params = []) => connection.query(text, params),
    close: async () => {},
    columnType: () => "",
    misfit: () => undefined,
  };
}

const answers = new Map<string, ReturnType<typeof waitForCli>>();

/** What a command says of the files of the museum: the same beside each engine. */
function onFiles(words: readonly string[]): ReturnType<typeof waitForCli> {
  const id = words.join(" ");
  const answer = answers.get(id) ?? waitForCli([...words, "--data", museumData]);
  answers.set(id, answer);
  return answer;
}

const addressed = [["SQLite", openFile] as const, ...servers];

describe.each(addressed)("the commands on %s", (name, open) => {
  let engine: Engine;
  const address = () => engine.address ?? "";

  beforeAll(async () => {
    engine = await open();
    const statements = createTables(portier.schema, engine.dialect);
    const references = statements.filter((statement) => statement.startsWith("alter"));
    for (const statement of statements.filter((one) => !references.includes(one))) await engine.run(statement);
    for (const table of allTables(portier.schema)) await fill(engine, table, records(table.name));
    for (const statement of references) await engine.run(statement);
  });
  afterAll(() => engine?.close());

  it("count by the database what they count from files", async () => {
    const words = ["matrix", museumFile, ...now];
    const counted = await waitForCli([...words, "--data", address()]);
    expect(counted.code).toBe(0);
    const fromFiles = await onFiles(words);
    expect([counted.code, counted.out]).toEqual([fromFiles.code, fromFiles.out]);
  });

  it("explain and write filters of its people as of those of files", async () => {
    for (const person of ["visitor", "s-003"]) {
      for (const words of [
        ["explain", museumFile, "edit", "objects", "BM-SH-0003", "label"],
        ["explain", museumFile, "view", "loans", "l-003"],
        ["explain", museumFile, "create", "loans", "--format", "json"],
        ["explain", museumFile, "edit", "exhibitions", String(records("exhibitions")[0]?.["id"]), "title"],
        ...["list", "edit"].map((action) => ["sql", museumFile, "objects", action, "--dialect", "sqlite"]),
        ["sql", museumFile, "exhibits", "--select", "--dialect", engine.dialect.name, "--format", "json"],
      ]) {
        const asked = [...words, "--as", person, ...now];
        const onIt = await waitForCli([...asked, "--data", address()]);
        expect(onIt, asked.join(" ")).toEqual(await onFiles(asked));
      }
    }
    const own = await waitForCli([
      "sql",
      museumFile,
      "objects",
      "--as",
      "s-003",
      "--format",
      "json",
      "--data",
      address(),
    ]);
    expect(JSON.parse(own.out)).toMatchObject({ viewer: "s-003", dialect: engine.dialect.name });
  });

  it("compare, test, lint and report on its records as on those of files", async () => {
    for (const words of [
      ["diff", museumFile, "examples/museum/museum.portier.yaml"],
      ["lint", museumFile],
      ["test", museumFile],
      ["matrix", museumFile, "--fields", "--table", "loans"],
      ["report", museumFile],
    ]) {
      const asked = [...words, ...now];
      const onIt = await waitForCli([...asked, "--data", address()]);
      expect(onIt, words.join(" ")).toEqual(await onFiles(asked));
    }
  });

  it("show the same records, found by the database", async () => {
    for (const more of [["--as", "s-003"], ["--as", "s-003", "--compare", "s-005"], [], ["--as", "s-009"]]) {
      const words = ["show", museumFile, "staff", ...more, "--limit", "0", "--format", "json", ...now];
      const shown = await waitForCli([...words, "--data", address()]);
      const expected = await onFiles(words);
      expect({ ...shown, out: recordsOf(shown.out) }).toEqual({ ...expected, out: recordsOf(expected.out) });
    }
    const few = await waitForCli([
      "show",
      museumFile,
      "objects",
      "--as",
      "s-005",
      "--limit",
      "3",
      "--data",
      address(),
      ...now,
    ]);
    expect(few.err).toContain("3 of 400 are shown");
  });

  it.each([
    ["show", ["staff", "--as", "s-099"], '"s-099"'],
    ["sql", ["staff", "--as", "s-099"], '"s-099"'],
    ["explain", ["view", "staff", "s-003", "--as", "s-099"], '"s-099"'],
    ["explain", ["view", "objects", "BM-XX-9999", "--as", "s-003"], '"BM-XX-9999"'],
  ])("of %s say who or what is not there: %j", async (command, words, told) => {
    const { code, err } = await waitForCli([command, museumFile, ...words, "--data", address(), ...now]);
    expect({ code, err }).toEqual({ code: 2, err: expect.stringContaining(told) });
  });

  it("read back the tables that they made", async () => {
    const { out } = await waitForCli([
      "import",
      address(),
      ...(engine.schema === undefined ? [] : ["--schema", engine.schema]),
    ]);
    const { schema } = compileText(out, { file: "imported.yaml" });
    for (const table of portier.schema.tables.values()) {
      const found = [...schema.tables.values()].find(({ source }) => source.replace(/^.*\./, "") === table.name);
      expect(
        found?.key.map((field) => field.name),
        table.name,
      ).toEqual(table.key.map((field) => field.name));
      for (const field of table.fields) {
        if (field.lookup !== undefined || field.by !== undefined) continue;
        const other = found?.byName.get(field.name);
        expect([field.name, other?.type.base, other?.type.choices, other?.optional]).toEqual([
          field.name,
          // SQLite has no exact number; ours stands in a text.
          name === "SQLite" && field.type.base === "decimal" ? "text" : field.type.base,
          field.type.choices,
          field.optional,
        ]);
      }
    }
  });

  it("write texts into statements so that they stay what they are", async () => {
    const pieces = fc.constantFrom("'", "\\", '"', "`", "a", "%", "\n", "--", "\u{1f6a2}", "?", "$1");
    const texts = fc.array(pieces, { maxLength: 8 }).map((parts) => parts.join(""));
    await fc.assert(
      fc.asyncProperty(texts, async (text) => {
        const [row] = await engine.run(`select ${engine.dialect.literal(text)} as same`);
        expect(row?.["same"]).toBe(text);
      }),
      { numRuns: runsOf(100) },
    );
  });
});

/** In the order of their keys, as a folder has them in that of the file; decimals without zeros at their end. */
function recordsOf(out: string): unknown {
  const plain = JSON.parse(out.replaceAll(/"(\d+\.\d*?)0+"/g, '"$1"')) as { records: { key: string }[] };
  return plain.records.sort((a, b) => (a.key < b.key ? -1 : 1));
}
