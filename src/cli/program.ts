import { readFileSync } from "node:fs";
import { Command, CommanderError, Option } from "commander";
import { formatProblem, PortierError } from "../schema/problems.js";
import { assignCommand } from "./assign.js";
import { recordCommand } from "./audit.js";
import type { CliCommand } from "./command.js";
import { compileCommand } from "./compile.js";
import { delegateCommand } from "./delegate.js";
import { diffCommand } from "./diff.js";
import { explainCommand } from "./explain.js";
import { importCommand } from "./import.js";
import { openCommand } from "./inspect.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { lintCommand } from "./lint.js";
import { matrixCommand } from "./matrix.js";
import { membersCommand } from "./members.js";
import { observedCommand } from "./observed.js";
import { palette } from "./paint.js";
import { protectCommand, protectionsCommand, unprotectCommand } from "./protect.js";
import { reportCommand } from "./report.js";
import { revokeCommand } from "./revoke.js";
import { setCommand } from "./set.js";
import { showCommand } from "./show.js";
import { sqlCommand } from "./sql.js";
import { testCommand } from "./test.js";

/** The commands in the order in which help lists them. */
const commands: readonly CliCommand[] = [
  lintCommand,
  matrixCommand,
  membersCommand,
  assignCommand,
  revokeCommand,
  setCommand,
  protectionsCommand,
  protectCommand,
  unprotectCommand,
  delegateCommand,
  recordCommand,
  showCommand,
  explainCommand,
  testCommand,
  diffCommand,
  observedCommand,
  reportCommand,
  sqlCommand,
  compileCommand,
  importCommand,
  openCommand,
];

const firstSteps = `
First steps:
  portier lint museum.portier.yaml                           is it right?
  portier matrix museum.portier.yaml --data data             who may do what?
  portier show museum.portier.yaml objects --as s-003        what does this person see?
  portier explain museum.portier.yaml view objects KEY FIELD --as s-003   why?
  portier open museum.portier.yaml                           all of this in a browser, beside the rules
  portier test museum.portier.yaml                           does it come to what was meant?
  portier diff HEAD:museum.portier.yaml museum.portier.yaml  who gains and loses by a change?
  portier report museum.portier.yaml --format html > rules.html   the rules in sentences and pictures
  portier assign museum.portier.yaml s-007 keeper --as s-001  what would they gain?
  portier sql museum.portier.yaml objects list --as s-003    what goes to the database?
  portier import postgres://localhost/museum                 what is in it, ready for rules

Exit codes: 0 done, 1 found something, 2 could not run. Results go to standard output, remarks to standard error.
`;

/** Commands that ask nothing of a session. */
const withoutSession: readonly CliCommand[] = [importCommand, recordCommand, compileCommand];

/**
 * Runs `portier` with its arguments (without node and script). Never throws, never leaves the process. A command that
 * has to wait for something gives a promise.
 */
export function runCli(args: readonly string[], io: Io): ExitCode | Promise<ExitCode> {
  let code = 0 as ExitCode | Promise<ExitCode>;
  const program = new Command("portier")
    .description("Who may view and edit which records and fields of an app.")
    .version(version(), "--version", "which version this is")
    .addHelpText("after", firstSteps)
    .showSuggestionAfterError(true)
    .exitOverride()
    .configureOutput({
      writeOut: (text) => io.out(text),
      writeErr: (text) => io.err(text),
      getOutHelpWidth: () => io.width,
    });
  for (const one of commands) {
    const command = program.command(one.usage).description(one.summary);
    one.declare(command);
    if (!withoutSession.includes(one)) {
      command
        .option("--request <name=value...>", "a value of the request that the document declares")
        .option("--at <date>", "the day or moment of the request, such as 2027-01-31 or 2027-01-31T09:00:00Z");
    }
    command.addOption(
      new Option("--format <format>", "how results are printed")
        .choices(one.formats ?? ["text", "json"])
        .default((one.formats ?? ["text"])[0]),
    );
    command.action(() => {
      code = one.run(command.processedArgs as (string | undefined)[], command.opts(), io);
    });
  }
  try {
    if (args.length === 0) program.outputHelp();
    else program.parse([...args], { from: "user" });
    return code instanceof Promise ? code.catch((error) => failed(error, io)) : code;
  } catch (error) {
    return failed(error, io);
  }
}

function version(): string {
  const text = readFileSync(new URL("../../package.json", import.meta.url), "utf8");
  return (JSON.parse(text) as { readonly version: string }).version;
}

function failed(error: unknown, io: Io): ExitCode {
  if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : 2;
  const paint = palette(io);
  if (error instanceof PortierError) {
    for (const one of error.problems) io.err(`${paint.no("error")}  ${formatProblem(one)}\n`);
  } else if (error instanceof CliError) io.err(`${paint.no("error")}  ${error.message}\n`);
  else io.err(`${paint.no("error")}  this is a mistake in portier itself: ${String(error)}\n`);
  return 2;
}
