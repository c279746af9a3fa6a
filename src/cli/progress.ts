import type { Io } from "./io.js";

/** What takes no longer than this is not told about, in milliseconds. */
const patience = 5_000;

/** Tells whoever waits how far long work is, now and then: `matrix: 3 of 9 tables`. */
export function progressOf(io: Pick<Io, "progress">, what: string, of: string): (done: number, all: number) => void {
  let next = Date.now() + patience;
  return (done, all) => {
    if (Date.now() < next) return;
    next = Date.now() + patience;
    io.progress?.(`${what}: ${done} of ${all} ${of}\n`);
  };
}
