#!/usr/bin/env node
import { readdirSync } from "node:fs";
import { commandsFor } from "./commands.js";
import { runCli } from "./program.js";

/** Whether a stream is to be colored: one may go to a terminal, and the other into a file. */
function isColored({ isTTY }: NodeJS.WriteStream): boolean {
  const { NO_COLOR, FORCE_COLOR, TERM } = process.env;
  if (NO_COLOR) return false;
  if (FORCE_COLOR) return FORCE_COLOR !== "0";
  return isTTY === true && TERM !== "dumb";
}

// A reader that closes early (such as "head") ends the output, not with an error.
process.stdout.on("error", (error: NodeJS.ErrnoException) => {
  if (error.code !== "EPIPE") throw error;
});

const args = process.argv.slice(2);
process.exitCode = await runCli(await commandsFor(args), args, {
  out: (text) => process.stdout.write(text),
  err: (text) => process.stderr.write(text),
  ...(process.stderr.isTTY === true && { progress: (text: string) => process.stderr.write(text) }),
  files: () => readdirSync("."),
  width: process.stdout.columns ?? (Number(process.env["COLUMNS"]) || 120),
  color: isColored(process.stdout),
  errColor: isColored(process.stderr),
});
