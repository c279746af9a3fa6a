import type { Io } from "./io.js";

/** What takes no longer than this is not told about, in milliseconds. */
const patience = 5_000;

/** Tells how far long work is, now and then, beside its results: `matrix: 3 of 9 tables`. */
export function progressOf(io: Pick<Io, "err">, what: string, of: string): (done: number, all: number) => void {
  let next = Date.now() + patience;
  return (done, all) => {
    if (Date.now() < next) return;
    next = Date.now() + patience;
    io.err(`${what}: ${done} of ${all} ${of}\n`);
  };
}
