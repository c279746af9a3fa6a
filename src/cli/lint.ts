import type { Data } from "../document/data.js";
import { formatProblem, PortierError, type Problem } from "../schema/problems.js";
import type { Portier } from "../session/portier.js";
import { coverageOf } from "../verify/expectations/coverage.js";
import { lint } from "../verify/lint/lint.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses } from "./database.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { type Loaded, loadDocument, type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";
import { progressOf } from "./progress.js";
import { withRecords } from "./records.js";
import { resultOf, sarif } from "./sarif.js";
import {
  type ExpectationFile,
  expectationsBeside,
  expectationsOf,
  openExpectations,
} from "./testing/expectation-files.js";

interface LintOptions extends SessionFlags {
  readonly data?: string;
  readonly untested?: true;
  readonly browser?: true;
  readonly screens?: true;
  readonly format: "text" | "json" | "sarif";
}

export const lintCommand: CliCommand<LintOptions> = {
  usage: "lint <file>",
  summary: "List every error and warning, with its place and a hint",
  formats: ["text", "json", "sarif"],
  declare: (command) => {
    command
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv, or ${databaseAddresses}: more warnings can be found`,
      )
      .option("--untested", "also warn about rules that no expectation beside the file covers; needs records")
      .option("--browser", "also warn about rules that a browser cannot decide from a snapshot")
      .option("--screens", "also warn about permits that no screen uses")
      .addHelpText(
        "after",
        '\nTo ignore a warning, write "ignore: { CODE: reason }" in the part that it is about. Each code has a page in docs/lint.',
      );
  },
  run: ([file = ""], options, io) => runLint(file, options, io),
};

function runLint(file: string, options: LintOptions, io: Io): ExitCode | Promise<ExitCode> {
  let loaded: Loaded;
  try {
    loaded = loadDocument(file);
  } catch (error) {
    // What cannot be read at all is not a problem of the document.
    if (!(error instanceof PortierError) || error.code === "file-missing") throw error;
    return printProblems(error.problems, "error", file, options, io);
  }
  const { portier } = loaded;
  const warned = (data: Data | undefined, files: readonly ExpectationFile[] | undefined) =>
    printProblems(findWarnings(loaded, { data, files }, options, io), "warning", file, options, io);
  if (options.data === undefined && options.untested === undefined) return warned(undefined, undefined);
  return withRecords(portier, file, options.data, (data) => {
    if (options.untested === undefined) return warned(data, undefined);
    if (data === undefined) throw new CliError("--untested needs records: name a folder or a database with --data");
    const files = openExpectations(expectationsBeside(file));
    return files instanceof Promise ? files.then((one) => warned(data, one)) : warned(data, files);
  });
}

function findWarnings(
  { portier, parsed }: Loaded,
  { data, files }: { readonly data: Data | undefined; readonly files: readonly ExpectationFile[] | undefined },
  options: LintOptions,
  io: Io,
): Problem[] {
  const { request } = sessionOptions(portier, options, data?.source, io);
  const now = request["now"];
  const found = lint(portier, {
    onCheck: progressOf(io, "lint", "checks"),
    ...(data === undefined ? {} : { data }),
    ...(typeof now === "string" ? { now } : {}),
    ...(options.browser === undefined ? {} : { browser: true }),
    ...(options.screens === undefined ? {} : { screens: true }),
    ...(files === undefined || data === undefined ? {} : { untested: untestedRules(portier, files, data, request) }),
  });
  const warnings = found.map((one) => ({ ...one, ...parsed.locate(one.path) }));
  return warnings.sort((a, b) => (a.line ?? 0) - (b.line ?? 0));
}

/** The rules on which no expectation beside the document bears. A rule that is not there at that time is not asked. */
function untestedRules(
  portier: Portier,
  files: readonly ExpectationFile[],
  data: Data,
  request: Readonly<Record<string, unknown>>,
): string[] {
  const expectations = files.flatMap((one) => expectationsOf(portier, one));
  const records = (table: string) => data.tables.get(table) ?? [];
  const rules = coverageOf(portier, expectations, { source: data.source, records, options: { request } });
  return rules.filter(({ applied, isInForce }) => !applied && isInForce).map(({ rule }) => rule);
}

function printProblems(
  problems: readonly Problem[],
  severity: "error" | "warning",
  file: string,
  { format }: LintOptions,
  io: Io,
): ExitCode {
  const paint = palette(io);
  const tone = severity === "error" ? paint.no : paint.warning;
  if (format === "json") {
    io.out(`${JSON.stringify({ problems: problems.map((one) => ({ severity, ...one })) }, null, 2)}\n`);
  } else if (format === "sarif") {
    const level = severity === "error" ? "error" : "warning";
    io.out(sarif(problems.map((one) => resultOf(one, level, file))));
  } else {
    for (const one of problems) io.out(`${tone(severity)}  ${formatProblem(one)}\n`);
    if (problems.length === 0) io.out(`${paint.yes("ok")}  ${file}: no errors, no warnings\n`);
    else io.err(`${problems.length} ${severity}${problems.length === 1 ? "" : "s"}\n`);
  }
  if (problems.length === 0) return 0;
  return severity === "error" ? 2 : 1;
}
