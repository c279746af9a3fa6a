import type { Command } from "commander";
import type { ExitCode, Io } from "./io.js";

/** A command of `portier`: what it is called, how it is declared, and what it does. One file each. */
export interface CliCommand {
  /** The name and its arguments, as commander reads them. */
  readonly usage: string;
  /** One line. */
  readonly summary: string;
  /** How results can be printed. Default: text and json. */
  readonly formats?: readonly string[];
  /** Adds options, and examples to the help. */
  declare(command: Command): void;
  run(
    args: readonly (string | undefined)[],
    options: Readonly<Record<string, unknown>>,
    io: Io,
  ): ExitCode | Promise<ExitCode>;
}
