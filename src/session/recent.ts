/** Keeps what was asked for most recently. */
export class Recent<V> {
  readonly #kept = new Map<string, V>();
  readonly #most: number;
  #last: { readonly key: string; readonly value: V } | undefined;

  constructor(most: number) {
    this.#most = most;
  }

  get(key: string): V | undefined {
    if (this.#last?.key === key) return this.#last.value;
    const value = this.#kept.get(key);
    // The one that was not asked for the longest stands first, and goes first.
    if (value !== undefined) this.set(key, value);
    return value;
  }

  set(key: string, value: V): void {
    this.#last = { key, value };
    this.#kept.delete(key);
    this.#kept.set(key, value);
    if (this.#kept.size <= this.#most) return;
    const [oldest] = this.#kept.keys();
    if (oldest !== undefined) this.#kept.delete(oldest);
  }
}
