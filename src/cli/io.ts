/** What a command may touch of the world outside: passed in, so that a test calls a command with strings. */
export interface Io {
  /** Results. */
  out(text: string): void;
  /** Remarks. */
  err(text: string): void;
  /** How far long work is: for somebody who waits at a terminal. Left out, nobody waits, and output does not depend on time. */
  progress?(text: string): void;
  /**
   * The names in the folder in which the command was called: its rules file is found there where none is named. Left out, it must
   * be named.
   */
  files?(): readonly string[];
  /** Columns of the terminal; results fit into them. */
  readonly width: number;
  readonly color: boolean;
  /** The same for remarks. Default: as results. */
  readonly errColor?: boolean;
}

/** 0: done. 1: found something. 2: could not run. */
export type ExitCode = 0 | 1 | 2;

/** A remark that stops a command before it has printed anything. Its message is all that is shown. */
export class CliError extends Error {}
