import { formatProblem, PortierError, type Problem } from "../schema/problems.js";
import { lint } from "../verify/lint.js";
import type { CliCommand } from "./command.js";
import type { ExitCode, Io } from "./io.js";
import { loadData, loadDocument, rolesFile } from "./load.js";
import { palette } from "./paint.js";

interface LintOptions {
  readonly data?: string;
  readonly format: "text" | "json";
}

export const lintCommand: CliCommand = {
  usage: "lint <file>",
  summary: "every error and every doubt, with its place and a hint",
  declare: (command) => {
    command.option("--data <folder>", "records as TABLE.json; sharpens the doubts");
  },
  run: ([file = ""], options, io) => runLint(file, options as unknown as LintOptions, io),
};

function runLint(file: string, options: LintOptions, io: Io): ExitCode {
  let problems: readonly Problem[];
  let severity: "error" | "doubt";
  try {
    problems = findDoubts(file, options.data);
    severity = "doubt";
  } catch (error) {
    // What cannot be read at all is no finding about the document.
    if (!(error instanceof PortierError) || error.code === "file-missing") throw error;
    problems = error.problems;
    severity = "error";
  }
  if (options.format === "json") {
    io.out(`${JSON.stringify({ problems: problems.map((one) => ({ severity, ...one })) }, null, 2)}\n`);
  } else printProblems(problems, severity, file, io);
  if (problems.length === 0) return 0;
  return severity === "error" ? 2 : 1;
}

function findDoubts(file: string, folder: string | undefined): Problem[] {
  const { portier, parsed } = loadDocument(file);
  const data = folder === undefined ? undefined : loadData(portier, folder, rolesFile(file));
  const doubts = lint(portier, data).map((one) => ({ ...one, ...parsed.locate(one.path) }));
  return doubts.sort((a, b) => (a.line ?? 0) - (b.line ?? 0));
}

function printProblems(problems: readonly Problem[], severity: "error" | "doubt", file: string, io: Io): void {
  const paint = palette(io);
  const tone = severity === "error" ? paint.no : paint.doubt;
  for (const one of problems) io.out(`${tone(severity)}  ${formatProblem(one)}\n`);
  if (problems.length === 0) io.out(`${paint.yes("right")}  ${file}: no error, no doubt\n`);
  else io.err(`${problems.length} ${severity}${problems.length === 1 ? "" : "s"}\n`);
}
