import { runCli } from "../../src/cli/program.js";

/** What a command printed and how it ended. */
export interface Ran {
  readonly code: number;
  readonly out: string;
  readonly err: string;
}

/** Runs `portier` with its words, as the executable does, in this process. */
export function portierCli(words: readonly string[], { width = 120, color = false } = {}): Ran {
  let out = "";
  let err = "";
  const code = runCli(words, {
    out: (text) => {
      out += text;
    },
    err: (text) => {
      err += text;
    },
    width,
    color,
  });
  return { code, out, err };
}
