import { appendFileSync } from "node:fs";
import type { Observe } from "../database/observing.js";

/**
 * Writes what is observed to a file, one JSON object a line, for `portier observed FILE`. The file grows; several processes
 * may write to one. A line that cannot be written is an error of the call that it is about.
 *
 * @example
 * createDatabase(portier, pgConnection(pool), { observe: observedFile("observed.jsonl") });
 */
export function observedFile(file: string): Observe {
  return (observation) => appendFileSync(file, `${JSON.stringify(observation)}\n`);
}
