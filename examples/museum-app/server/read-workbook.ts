import { Worker } from "node:worker_threads";
import type { ProtectedRange } from "./workbook.js";

export interface SheetIn {
  /** Row by row from A1 on; null for an empty cell. */
  readonly cells: readonly (readonly (string | null)[])[];
  readonly ranges: readonly ProtectedRange[];
}

/** Something that is no workbook, or too large a one. */
export class BadWorkbook extends Error {
  override readonly name = "BadWorkbook";
}

/** How long one workbook is read, in milliseconds. */
const patience = 15_000;
const resourceLimits = { maxOldGenerationSizeMb: 512 };

/**
 * The first sheet of a workbook: what its cells show, and its protected ranges. It is read in a worker that is stopped when it
 * takes too long or too much memory, so that nobody else waits for it.
 *
 * @throws BadWorkbook
 */
export async function readWorkbook(bytes: Uint8Array): Promise<SheetIn> {
  const worker = new Worker(new URL("./workbook-worker.js", import.meta.url), { workerData: bytes, resourceLimits });
  const tooMuch = () => new BadWorkbook("It takes too long to read this workbook.");
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
