/**
 * Writes a file whole or not at all. What does it is loaded then: it listens to the signals that end a process, and a program
 * that only imports this package is ended by them as any other.
 */
export async function writeWhole(file: string, text: string): Promise<void> {
  const { default: writeFileAtomic } = await import("write-file-atomic");
  await writeFileAtomic(file, text);
}
