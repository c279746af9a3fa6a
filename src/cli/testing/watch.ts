import { existsSync, watch } from "node:fs";
import { dirname } from "node:path";
import { formatProblem, PortierError } from "../../schema/problems.js";
import { isDatabase } from "../database.js";
import { CliError, type ExitCode, type Io } from "../io.js";
import { dataFolder } from "../load.js";

/** How long to wait for more changes before running: an editor writes a file in several steps. In milliseconds. */
const pause = 100;

/**
 * Runs, and runs again whenever something changes in the folders of the document, its expectations and its records; a
 * mistake in one of them is told, and the next change tried. Ends only with the process.
 */
export function watchFiles(
  file: string,
  expectations: readonly string[],
  data: string | undefined,
  run: () => ExitCode | Promise<ExitCode>,
  io: Io,
): Promise<ExitCode> {
  if (data !== undefined && isDatabase(data)) throw new CliError("a database is not watched: leave --watch out");
  const records = dataFolder(file, data);
  const folders = new Set([file, ...expectations].map((one) => dirname(one)).concat(records ?? []));
  let waiting: NodeJS.Timeout | undefined;
  let last = Promise.resolve();
  const again = () => {
    clearTimeout(waiting);
    waiting = setTimeout(() => {
      last = last.then(() => told(run, io)).then(() => io.err("waiting for a change\n"));
    }, pause);
  };
  for (const folder of folders) {
    if (existsSync(folder)) watch(folder, again);
  }
  again();
  return new Promise(() => {});
}

async function told(run: () => ExitCode | Promise<ExitCode>, io: Io): Promise<void> {
  try {
    await run();
  } catch (error) {
    if (error instanceof PortierError) for (const one of error.problems) io.err(`error  ${formatProblem(one)}\n`);
    else if (error instanceof CliError) io.err(`error  ${error.message}\n`);
    else throw error;
  }
}
