/** What a command may touch of the world outside: passed in, so that a test calls a command with strings. */
export interface Io {
  /** Results. */
  out(text: string): void;
  /** Progress and remarks. */
  err(text: string): void;
  /** Columns of the terminal; results fit into them. */
  readonly width: number;
  readonly color: boolean;
}

/** 0: done. 1: found something. 2: could not run. */
export type ExitCode = 0 | 1 | 2;

/** A remark that stops a command before it has printed anything. Its message is all that is shown. */
export class CliError extends Error {}
