import { closeSync, existsSync, openSync, readFileSync, readSync, statSync } from "node:fs";
import { open } from "node:fs/promises";
import type { Row } from "../conditions/source.js";
import type { AuditEntry } from "../people/audit-entry.js";
import { isMapping } from "../schema/reader.js";

/** One line of the record: what was written, which state came of it, and the digest of it all and of the line before. */
export interface Line {
  readonly version: number;
  readonly writes: readonly { readonly table: string; readonly before?: Row; readonly after?: Row }[];
  readonly entries: readonly AuditEntry[];
  readonly digest: string;
}

/**
 * The record beside a file, as it grows. Of each version the first line counts, one version after the other: what a process
 * wrote that was asleep while others went on says nothing.
 */
export class AuditLog {
  readonly #file: string;
  #lines: Line[] = [];
  #inode = 0n;
  /** The end of the last line that was read. */
  #end = 0;

  constructor(file: string) {
    this.#file = file;
  }

  /** The lines that count, in order. Only what is new is read. */
  lines(): readonly Line[] {
    if (!existsSync(this.#file)) {
      this.#begin(0n);
      return this.#lines;
    }
    const { ino, size } = statSync(this.#file, { bigint: true });
    if (ino !== this.#inode || Number(size) < this.#end) this.#begin(ino);
    const bytes = bytesFrom(this.#file, this.#end, Number(size));
    const length = bytes.lastIndexOf(0x0a) + 1;
    this.#end += length;
    for (const line of linesIn(bytes.subarray(0, length).toString("utf8"))) {
      const last = this.#lines.at(-1);
      if (last === undefined || line.version === last.version + 1) this.#lines.push(line);
    }
    return this.#lines;
  }

  #begin(inode: bigint): void {
    this.#lines = [];
    this.#inode = inode;
    this.#end = 0;
  }

  /**
   * Adds a line, and returns when it is on the disk. It begins on a line of its own, whatever a process that was killed has
   * left of one before it.
   */
  async append(line: Line): Promise<void> {
    const text = `${JSON.stringify(line)}\n`;
    const handle = await open(this.#file, "a+");
    try {
      const { size } = await handle.stat();
      const last = Buffer.alloc(1);
      if (size > 0) await handle.read(last, 0, 1, size - 1);
      const bytes = Buffer.from(size > 0 && last[0] !== 0x0a ? `\n${text}` : text);
      // In one piece: what another process writes at the same time comes before or after it.
      const { bytesWritten } = await handle.write(bytes);
      if (bytesWritten < bytes.length) throw new Error(`${this.#file} could not be written: there is no room`);
      await handle.sync();
    } finally {
      await handle.close();
    }
  }
}

/** All lines that were written whole, in the order in which they were, those that do not count among them. */
export function allLines(file: string): readonly Line[] {
  return existsSync(file) ? linesIn(readFileSync(file, "utf8")) : [];
}

function linesIn(text: string): readonly Line[] {
  return text.split("\n").flatMap((one) => {
    try {
      const line: unknown = JSON.parse(one);
      return isMapping(line) && typeof line["version"] === "number" ? [line as unknown as Line] : [];
    } catch {
      return [];
    }
  });
}

function bytesFrom(file: string, from: number, to: number): Buffer {
  const bytes = Buffer.alloc(Math.max(0, to - from));
  const handle = openSync(file, "r");
  try {
    return bytes.subarray(0, readSync(handle, bytes, 0, bytes.length, from));
  } finally {
    closeSync(handle);
  }
}
