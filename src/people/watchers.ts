/** Those who watch a store. Each is told of every change, whatever becomes of it with another. */
export class Watchers {
  readonly #all = new Set<{ readonly onChange: () => void }>();

  get size(): number {
    return this.#all.size;
  }

  /** Gives what takes it out again: whether it was still there. */
  add(onChange: () => void): () => boolean {
    const watcher = { onChange };
    this.#all.add(watcher);
    return () => this.#all.delete(watcher);
  }

  /** One that fails stops neither the others nor the change that it is told of: the failure is a warning on the console. */
  tell(): void {
    for (const { onChange } of [...this.#all]) {
      try {
        onChange();
      } catch (error) {
        const { console } = globalThis as { readonly console?: { warn(text: string): void } };
        console?.warn(`Portier: one who watches who holds what failed: ${String(error)}`);
      }
    }
  }
}
