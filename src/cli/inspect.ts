import { spawn } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { CliCommand } from "./command.js";
import { databaseAddresses } from "./database.js";
import { openProject } from "./inspector/project.js";
import { serveInspector } from "./inspector/serve.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import type { SessionFlags } from "./load.js";

interface OpenOptions extends SessionFlags {
  readonly data?: string;
  readonly port: string;
  readonly browser: boolean;
}

export const inspectCommand: CliCommand<OpenOptions> = {
  usage: "inspect <file>",
  summary: "Open the inspector in a browser: view as anyone, why, and who gains by a change",
  formats: ["text"],
  declare: (command) => {
    command
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv (default: the folder data beside FILE), or ${databaseAddresses}`,
      )
      .option("--port <number>", "the local port to listen on; 0 for any free port", "0")
      .option("--no-browser", "print the address without opening a browser")
      .addHelpText(
        "after",
        "\nIt listens on 127.0.0.1 alone, behind an address that nobody can guess, and writes FILE and the expectations\nbeside it, nothing else. Ctrl-C ends it.",
      );
  },
  run: ([file = ""], options, io) => runOpen(file, options, io),
};

async function runOpen(file: string, options: OpenOptions, io: Io): Promise<ExitCode> {
  const port = Number(options.port);
  if (!Number.isInteger(port) || port < 0 || port > 65_535) {
    throw new CliError(`--port takes a number from 0 to 65535, not "${options.port}"`);
  }
  const project = openProject(file, options);
  // What cannot be read is said before anything is opened.
  await project.read();
  const served = await serveInspector(project, port);
  io.out(`The inspector: ${served.address}\n`);
  io.err("Ctrl-C ends it.\n");
  const page = options.browser && process.stdout.isTTY ? leadingPage(served.address) : undefined;
  if (page !== undefined) openBrowser(page.file);
  for (const signal of ["SIGINT", "SIGTERM"] as const) process.once(signal, () => served.close());
  await served.closed;
  page?.remove();
  return 0;
}

/**
 * A page of this user's alone that leads to an address. The address is the key to the inspector, and the arguments of a
 * process can be seen by everybody on the machine.
 */
function leadingPage(address: string): { readonly file: string; readonly remove: () => void } {
  const folder = mkdtempSync(join(tmpdir(), "portier-"));
  const file = join(folder, "open.html");
  writeFileSync(file, `<!doctype html><meta http-equiv="refresh" content="0;url=${address}">\n`, { mode: 0o600 });
  return { file, remove: () => rmSync(folder, { recursive: true, force: true }) };
}

/** Asks the desktop for a browser; where there is none, the address has been said. */
function openBrowser(page: string): void {
  const [command, ...args] = { darwin: ["open"], win32: ["cmd", "/c", "start", ""] }[process.platform as string] ?? [
    "xdg-open",
  ];
  const child = spawn(command as string, [...args, page], { stdio: "ignore", detached: true });
  child.on("error", () => {});
  child.unref();
}
