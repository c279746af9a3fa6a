#!/usr/bin/env node
import { readdirSync } from "node:fs";
import { commandsFor } from "./commands.js";
import { runCli } from "./program.js";

const color = process.stdout.isTTY === true && !process.env["NO_COLOR"] && process.env["TERM"] !== "dumb";

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
  color,
});
