import { readFileSync, writeFileSync } from "node:fs";
import { basename } from "node:path";
import { Option } from "commander";
import { parseDocument } from "../document/parse-document.js";
import { type FoundDatabase, inZone } from "../import/found.js";
import { readJsonSchema } from "../import/read-json-schema.js";
import { readMariadb } from "../import/read-mariadb.js";
import { readMariadbScript } from "../import/read-mariadb-script.js";
import { readPostgres } from "../import/read-postgres.js";
import { readSqlite } from "../import/read-sqlite.js";
import { runPostgresScript } from "../import/run-postgres-script.js";
import { writeDocument } from "../import/write-document.js";
import { compile } from "../session/portier.js";
import type { CliCommand } from "./command.js";
import {
  closing,
  databaseAddresses,
  isDatabase,
  type OpenDatabase,
  openEmpty,
  withDatabase,
  withoutPassword,
} from "./database.js";
import { CliError, type ExitCode, type Io } from "./io.js";

interface ImportOptions {
  readonly out?: string;
  readonly schema?: readonly string[];
  readonly dialect?: ScriptDialect;
  readonly zone?: "UTC";
  readonly format: "text" | "json";
}

export const importCommand: CliCommand<ImportOptions> = {
  usage: "import <source>",
  summary: "Write a rules file from a database, an SQL script or a JSON Schema, ready for rules",
  hasSession: false,
  declare: (command) => {
    command
      .addHelpText(
        "after",
        `\nSource: ${databaseAddresses}; a script (.sql); a JSON Schema or OpenAPI document (.json).`,
      )
      .option("--schema <names...>", "PostgreSQL: only the tables of these schemas")
      .addOption(new Option("--zone <zone>", "the zone of instants that are stored without one").choices(["UTC"]))
      .option("--out <file>", "write to a new file instead of standard output")
      .addOption(
        new Option("--dialect <name>", "the SQL dialect of the script")
          .choices(["postgres", "mariadb", "sqlite"])
          .default(undefined, "as the script looks"),
      );
  },
  run: ([source = ""], options, io) => runImport(source, options, io),
};

async function runImport(source: string, options: ImportOptions, io: Io): Promise<ExitCode> {
  const { schema, zone } = options;
  const isWanted = (one: { readonly schema: string | undefined }) =>
    schema === undefined || schema.includes(one.schema ?? "public");
  const { tables, besides, notes = [] } = await readSource(source, options);
  const shown = isDatabase(source) ? withoutPassword(source) : basename(source);
  const wanted = tables.filter(isWanted).map((table) => (zone === undefined ? table : inZone(table, zone)));
  const found = { tables: wanted, besides: besides.filter(isWanted) };
  const written = writeDocument(found, shown.replaceAll(/\p{Cc}/gu, " "));
  // What this writes, it must be able to read.
  const { document, locate } = parseDocument(written.text, { file: options.out ?? "the document" });
  compile(document, { locate });
  const leftOut = [...notes, ...written.leftOut];
  if (options.out !== undefined) writeNew(options.out, written.text);
  else if (options.format === "json") {
    const { counts, besides: others } = written;
    io.out(`${JSON.stringify({ document, counts, leftOut, besides: others }, null, 2)}\n`);
  } else io.out(written.text);
  const counts = Object.entries(written.counts).map(([what, count]) => sayCount(what, count));
  io.err(`${counts.join(", ")}\n`);
  for (const sentence of leftOut) io.err(`left out  ${oneLine(sentence)}\n`);
  for (const sentence of written.besides) io.err(`not read  ${oneLine(sentence)}\n`);
  return 0;
}

/** `4 of 5 tables`: how much of what is there the document declares. */
function sayCount(what: string, { found, declared }: { readonly found: number; readonly declared: number }): string {
  const many = found === 1 ? what.replace(/s$/, "") : what;
  return declared === found ? `${found} ${many}` : `${declared} of ${found} ${many}`;
}

function oneLine(text: string): string {
  return text.replaceAll(/\s+/g, " ");
}

interface Read extends FoundDatabase {
  /** What of a script could not be read. */
  readonly notes?: readonly string[];
}

async function readSource(source: string, options: ImportOptions): Promise<Read> {
  if (isDatabase(source)) return withDatabase(source, readDatabase);
  if (/\.json$/i.test(source)) {
    return { tables: readJsonSchema(parsedJson(readText(source), source)), besides: [] };
  }
  if (!/\.sql$/i.test(source))
    throw new CliError(`import reads ${databaseAddresses}, a .sql or a .json file, not "${source}"`);
  const read = await readScript(readText(source), source, options);
  if (read.tables.length > 0 || read.besides.length > 0 || (read.notes ?? []).length > 0) return read;
  throw new CliError(`${source} makes no table: it is no SQL script, or one for another database (--dialect)`);
}

async function readScript(script: string, source: string, options: ImportOptions): Promise<Read> {
  const dialect = options.dialect ?? dialectOf(script);
  if (dialect === "mariadb") return readMariadbScript(script);
  return closing(await openEmpty(dialect), async (empty) => {
    try {
      if (dialect === "postgres") {
        const notes = await runPostgresScript(script, empty);
        return { ...(await readDatabase(empty)), notes };
      }
      // A reference may lead to a table that is made later, or never.
      await empty.run(`pragma foreign_keys = off;\n${script}`);
      return await readDatabase(empty);
    } catch (error) {
      const others = (["postgres", "mariadb", "sqlite"] as const).filter((one) => one !== dialect);
      const hint = `if it is not for ${dialect}: --dialect ${others.join(" or ")}`;
      throw new CliError(`${source}: ${(error as Error).message} (${hint})`);
    }
  });
}

type ScriptDialect = "postgres" | "mariadb" | "sqlite";

/** For which database a script is, by what no other would write. */
function dialectOf(script: string): ScriptDialect {
  if (/^-- (?:MySQL|MariaDB) dump|\)\s*engine\s*=|^create table (?:if not exists )?`/im.test(script)) return "mariadb";
  if (/^\s*pragma\s|\bautoincrement\b|\bwithout rowid\b/im.test(script)) return "sqlite";
  return "postgres";
}

function readDatabase({ connection }: OpenDatabase): Promise<FoundDatabase> {
  const readers = { postgres: readPostgres, mariadb: readMariadb, sqlite: readSqlite } as const;
  return readers[connection.dialect.name](connection);
}

function readText(file: string): string {
  try {
    return readFileSync(file, "utf8");
  } catch (error) {
    throw new CliError(`${file} cannot be read: ${(error as Error).message}`);
  }
}

function parsedJson(text: string, file: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new CliError(`${file} is not JSON: ${(error as Error).message}`);
  }
}

/** Never over a file that is there: it may have rules in it. */
function writeNew(file: string, text: string): void {
  try {
    writeFileSync(file, text, { flag: "wx" });
  } catch (error) {
    const isThere = (error as { code?: string }).code === "EEXIST";
    throw new CliError(isThere ? `${file} is there already, and is not written over` : (error as Error).message);
  }
}
