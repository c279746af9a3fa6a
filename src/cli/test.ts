import type { CliCommand } from "./command.js";
import { databaseAddresses } from "./database.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { loadDocument, type SessionFlags, sessionOptions } from "./load.js";
import { withNeededRecords } from "./records.js";
import { runCoverage } from "./testing/coverage.js";
import { type ExpectationFile, expectationsBeside, openExpectations } from "./testing/expectation-files.js";
import { runMutations } from "./testing/mutations.js";
import { recorded } from "./testing/recording.js";
import { resultFormats, runAll } from "./testing/results.js";
import type { Testing } from "./testing/testing.js";
import { watchFiles } from "./testing/watch.js";

interface TestOptions extends SessionFlags {
  readonly data?: string;
  readonly explain?: true;
  readonly coverage?: true;
  readonly mutate?: true;
  readonly record?: true;
  readonly watch?: true;
  readonly format: (typeof resultFormats)[number] | "html";
}

export const testCommand: CliCommand<TestOptions> = {
  usage: "test <file> [expectations...]",
  summary: "Check the rules against their expectations; exit code 1 if one fails",
  formats: [...resultFormats, "html"],
  declare: (command) => {
    command
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv (default: the folder data beside FILE), or ${databaseAddresses}`,
      )
      .option("--explain", "say why each failed expectation failed")
      .option("--coverage", "show which rules, entries, conditions and fields the expectations cover (also as html)")
      .option("--record", "print expectations of what is permitted now, for people to review")
      .option("--mutate", "change the rules one small step at a time, and list the changes that no expectation detects")
      .option("--watch", "run again when the rules, the expectations or the records change")
      .addHelpText(
        "after",
        "\nWithout EXPECTATIONS: NAME.expect.yaml and NAME.ANYTHING.expect.yaml (or .json, .js, .ts) beside NAME.portier.yaml.",
      );
  },
  run: ([file = "", ...files], options, io) => {
    const named = (files.flat() as (string | undefined)[]).filter((one) => one !== undefined);
    const isPage = options.format === "html";
    if (isPage && !options.coverage) throw new CliError("--format html goes with --coverage");
    const run = () => runTest(file, named, options, io);
    return options.watch ? watchFiles(file, named, options.data, run, io) : run();
  },
};

function runTest(file: string, named: readonly string[], options: TestOptions, io: Io): ExitCode | Promise<ExitCode> {
  const loaded = loadDocument(file);
  return withNeededRecords(loaded.portier, file, options.data, "expectations need", (data) => {
    const shared = sessionOptions(loaded.portier, options, data.source, io);
    const work = (files: readonly ExpectationFile[]) => runOne({ ...loaded, file, data, shared, files }, options, io);
    if (options.record) return work([]);
    const opened = openExpectations(named.length === 0 ? expectationsBeside(file) : named);
    return opened instanceof Promise ? opened.then(work) : work(opened);
  });
}

function runOne(testing: Testing, options: TestOptions, io: Io): ExitCode {
  if (options.record) {
    io.out(recorded(testing));
    return 0;
  }
  if (options.coverage) return runCoverage(testing, options.format, io);
  if (options.mutate) return runMutations(testing, options.format, io);
  return runAll(testing, options.format, options.explain === true, io);
}
