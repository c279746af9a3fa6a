import { readFileSync } from "node:fs";
import { Command, CommanderError, Option } from "commander";
import { formatProblem, PortierError, sentence } from "../schema/problems.js";
import type { CliCommand } from "./command.js";
import { rulesHere, withRulesFile } from "./here.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { palette } from "./paint.js";

const firstSteps = `
First steps:
  portier import postgres://localhost/museum                 write a rules file from a database
  portier lint museum.portier.yaml                           find errors and warnings
  portier matrix museum.portier.yaml --data data             see who may do what
  portier show museum.portier.yaml objects --as s-003        see a table as one person sees it
  portier explain museum.portier.yaml view objects KEY FIELD --as s-003   see why
  portier inspect museum.portier.yaml                        do all of this in a browser, beside the rules
  portier test museum.portier.yaml                           check the rules against expectations
  portier diff HEAD:museum.portier.yaml museum.portier.yaml  see who gains and loses by a change
  portier assign museum.portier.yaml s-007 keeper --as s-001  assign a role, after seeing what it gives
  portier sql museum.portier.yaml objects list --as s-003    print the filter that goes to the database
  portier report museum.portier.yaml --format html > rules.html   write the rules in sentences and pictures

Exit codes: 0 done, 1 found something, 2 could not run. Results go to standard output, everything else to standard error.
`;

/**
 * Runs `portier` with its arguments (without node and script). Never throws, never leaves the process. A command that
 * has to wait for something gives a promise. `commands`: those that it knows.
 */
export function runCli(commands: readonly CliCommand[], args: readonly string[], io: Io): ExitCode | Promise<ExitCode> {
  let code = 0 as ExitCode | Promise<ExitCode>;
  const program = new Command("portier")
    .description("Who may view and edit which records and fields of an app.")
    .version(version(), "-v, --version", "print the version")
    .addHelpText("after", () => firstStepsOf(rulesHere(io)))
    .showSuggestionAfterError(true)
    .exitOverride()
    .configureOutput({
      writeOut: (text) => io.out(text),
      writeErr: (text) => io.err(text),
      getOutHelpWidth: () => io.width,
    });
  for (const one of commands) {
    const command = program.command(one.usage).description(one.summary);
    declare(one, command);
    command.action(() => {
      code = one.run(command.processedArgs as (string | undefined)[], command.opts(), io);
    });
  }
  try {
    if (args.length === 0) program.outputHelp();
    else program.parse([...withRulesFile(commands, args, io, operandsOf)], { from: "user" });
    return code instanceof Promise ? code.catch((error) => failed(error, io)) : code;
  } catch (error) {
    return failed(error, io);
  }
}

/** Adds the options of a command, and those of every one. */
function declare(one: CliCommand, command: Command): void {
  one.declare(command);
  if (one.hasSession !== false) {
    command
      .option("--request <name=value...>", "a request value that the document declares")
      .option(
        "--at <date>",
        "the date or instant of the request, such as 2027-01-31 or 2027-01-31T09:00:00Z (default: now)",
      );
  }
  command.addOption(
    new Option("--format <format>", "the output format")
      .choices(one.formats ?? ["text", "json"])
      .default((one.formats ?? ["text"])[0]),
  );
}

/** The words of a call that are no options and no values of options; undefined where they cannot be told apart. */
function operandsOf(one: CliCommand, words: readonly string[]): readonly string[] | undefined {
  const command = new Command().exitOverride().configureOutput({ writeErr: () => {} });
  declare(one, command);
  try {
    return command.parseOptions([...words]).operands;
  } catch {
    // What is wrong with them is said when they are read to be run.
    return undefined;
  }
}

/** What to do first: with the rules file that is here, where there is one. */
function firstStepsOf(files: readonly string[]): string {
  const [file, ...others] = files;
  if (file === undefined || others.length > 0) return firstSteps;
  const steps = firstSteps.split("\n").filter((line) => !line.startsWith("  portier import"));
  return steps
    .join("\n")
    .replace("First steps:", `First steps with ${file}, which stands here and need not be named:`)
    .replaceAll(/portier (\w+) museum\.portier\.yaml/g, "portier $1")
    .replaceAll("museum.portier.yaml", file);
}

function version(): string {
  const text = readFileSync(new URL("../../package.json", import.meta.url), "utf8");
  return (JSON.parse(text) as { readonly version: string }).version;
}

function failed(error: unknown, io: Io): ExitCode {
  if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : 2;
  const paint = palette({ color: io.errColor ?? io.color });
  if (error instanceof PortierError) {
    for (const one of error.problems) io.err(`${paint.no("error")}  ${formatProblem(one)}\n`);
  } else if (error instanceof CliError) io.err(`${paint.no("error")}  ${sentence(error.message)}\n`);
  else
    io.err(
      `${paint.no("error")}  internal error in Portier ${version()}: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}\n       Please report it with this text, the command and, if you can, the rules file.\n`,
    );
  return 2;
}
