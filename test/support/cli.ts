import { allCommands } from "../../src/cli/commands.js";
import { runCli } from "../../src/cli/program.js";

const commands = await allCommands();

/** What a command printed and how it ended. */
export interface Ran {
  readonly code: number;
  readonly out: string;
  readonly err: string;
}

/** Runs `portier` with its words, as the executable does, in this process. For commands that wait for nothing. */
export function portierCli(words: readonly string[], options: { width?: number; color?: boolean } = {}): Ran {
  const { code, ran } = start(words, options);
  if (typeof code !== "number") throw new Error(`${words[0]} waits for something`);
  return ran(code);
}

/** The same for those that wait. */
export async function waitForCli(words: readonly string[]): Promise<Ran> {
  const { code, ran } = start(words, {});
  return ran(await code);
}

function start(words: readonly string[], { width = 120, color = false }) {
  let out = "";
  let err = "";
  const code = runCli(commands, words, {
    out: (text) => {
      out += text;
    },
    err: (text) => {
      err += text;
    },
    width,
    color,
  });
  return { code, ran: (ended: number): Ran => ({ code: ended, out, err }) };
}
