import { readFileSync, writeFileSync } from "node:fs";
import { basename } from "node:path";
import { Option } from "commander";
import { parseDocument } from "../document/parse-document.js";
import type { FoundTable } from "../import/found.js";
import { readJsonSchema } from "../import/read-json-schema.js";
import { readMariadb } from "../import/read-mariadb.js";
import { readPostgres } from "../import/read-postgres.js";
import { readSqlite } from "../import/read-sqlite.js";
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
  readonly dialect: "postgres" | "sqlite";
  readonly format: "text" | "json";
}

export const importCommand: CliCommand<ImportOptions> = {
  usage: "import <source>",
  summary: "Write a rules file from a database, an SQL script or a JSON Schema, ready for rules",
  declare: (command) => {
    command
      .addHelpText(
        "after",
        `\nSource: ${databaseAddresses}; a script (.sql); a JSON Schema or OpenAPI document (.json).`,
      )
      .option("--schema <names...>", "PostgreSQL: only the tables of these schemas")
      .option("--out <file>", "write to a new file instead of standard output")
      .addOption(
        new Option("--dialect <name>", "the SQL dialect of the script")
          .choices(["postgres", "sqlite"])
          .default("postgres"),
      );
  },
  run: ([source = ""], options, io) => runImport(source, options, io),
};

async function runImport(source: string, options: ImportOptions, io: Io): Promise<ExitCode> {
  const { schema } = options;
  const found = (await readSource(source, options)).filter(
    (table) => schema === undefined || schema.includes(table.schema ?? "public"),
  );
  const shown = isDatabase(source) ? withoutPassword(source) : basename(source);
  const written = writeDocument(found, shown.replaceAll(/\p{Cc}/gu, " "));
  // What this writes, it must be able to read.
  const { document, locate } = parseDocument(written.text, { file: options.out ?? "the document" });
  compile(document, { locate });
  if (options.out !== undefined) writeNew(options.out, written.text);
  else if (options.format === "json") io.out(`${JSON.stringify({ document, leftOut: written.leftOut }, null, 2)}\n`);
  else io.out(written.text);
  const many = (count: number, what: string) => `${count} ${what}${count === 1 ? "" : "s"}`;
  io.err(`${many(written.tables, "table")}, ${many(written.fields, "field")}\n`);
  for (const sentence of written.leftOut) io.err(`left out  ${sentence}\n`);
  return 0;
}

async function readSource(source: string, options: ImportOptions): Promise<FoundTable[]> {
  if (isDatabase(source)) return withDatabase(source, readTables);
  if (/\.json$/i.test(source)) return readJsonSchema(parsedJson(readText(source), source));
  if (!/\.sql$/i.test(source))
    throw new CliError(`import reads ${databaseAddresses}, a .sql or a .json file, not "${source}"`);
  const script = readText(source);
  return closing(await openEmpty(options.dialect), async (empty) => {
    try {
      await empty.run(script);
    } catch (error) {
      const other = options.dialect === "postgres" ? "sqlite" : "postgres";
      const hint = `if it is not for ${options.dialect}: --dialect ${other}`;
      throw new CliError(`${source}: ${(error as Error).message} (${hint})`);
    }
    return readTables(empty);
  });
}

function readTables({ connection }: OpenDatabase): Promise<FoundTable[]> {
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
