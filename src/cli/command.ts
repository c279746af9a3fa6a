import type { Command } from "commander";
import type { ExitCode, Io } from "./io.js";

/** A command of `portier`: what it is called, how it is declared, and what it does. One file each. */
export interface CliCommand<Options extends object = object> {
  /** The name and its arguments, as commander reads them. */
  readonly usage: string;
  /** One line. */
  readonly summary: string;
  /** How results can be printed. Default: text and json. */
  readonly formats?: readonly string[];
  /** Whether it opens sessions, whose request and day can be named. Default: true. */
  readonly hasSession?: false;
  /** Adds options, and examples to the help. */
  declare(command: Command): void;
  /** `options` are those that `declare` added, and those of every command. */
  run(args: readonly (string | undefined)[], options: Options, io: Io): ExitCode | Promise<ExitCode>;
}
