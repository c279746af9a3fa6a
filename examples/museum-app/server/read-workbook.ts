import { Worker } from "node:worker_threads";
import type { NamedCells } from "portier/workbook";

export interface SheetIn {
  /** Row by row from A1 on; null for an empty cell. */
  readonly cells: readonly (readonly (string | null)[])[];
  readonly ranges: readonly NamedCells[];
}

/** Something that is not a workbook, or too large a one. */
export class BadWorkbook extends Error {
  override readonly name = "BadWorkbook";
}

/** So many workbooks are read already, or wait for it, that one more is not taken. */
export class Busy extends Error {
  override readonly name = "Busy";
}

/** How long one workbook is read, in milliseconds. */
const patience = 15_000;
/** How many are read at the same time, and how many more may wait: each takes a worker, and memory. */
const atOnce = 2;
const mostWaiting = 6;
const resourceLimits = { maxOldGenerationSizeMb: 512 };

let reading = 0;
const waiting: (() => void)[] = [];

/**
 * The first sheet of a workbook: what its cells show, and its protected ranges. It is read in a worker that is stopped when it
 * takes too long or too much memory, so that nobody else waits for it.
 *
 * @throws BadWorkbook; Busy
 */
export async function readWorkbook(bytes: Uint8Array): Promise<SheetIn> {
  if (reading < atOnce) reading++;
  else {
    if (waiting.length >= mostWaiting) throw new Busy("Too many workbooks are being read.");
    // Whoever is done leaves the place to the first who waits.
    await new Promise<void>((resolve) => waiting.push(resolve));
  }
  try {
    return await readInWorker(bytes);
  } finally {
    const next = waiting.shift();
    if (next === undefined) reading--;
    else next();
  }
}

async function readInWorker(bytes: Uint8Array): Promise<SheetIn> {
  const worker = new Worker(new URL("./workbook-worker.js", import.meta.url), { workerData: bytes, resourceLimits });
  const tooMuch = () => new BadWorkbook("This workbook takes too long to read.");
  let timer: NodeJS.Timeout | undefined;
  try {
    return await new Promise<SheetIn>((resolve, reject) => {
      timer = setTimeout(() => reject(tooMuch()), patience);
      worker.once("message", (told: { sheet: SheetIn } | { bad: string }) => {
        if ("bad" in told) reject(new BadWorkbook(told.bad));
        else resolve(told.sheet);
      });
      worker.once("error", () => reject(tooMuch()));
      worker.once("exit", () => reject(tooMuch()));
    });
  } finally {
    clearTimeout(timer);
    await worker.terminate();
  }
}
