/** What stands behind a session, or a compiled document, for the rest of the package; applications cannot get at it. */
export let internals: <I>(of: Opaque<I>) => I;

/** Keeps what is inside from applications. */
export abstract class Opaque<I> {
  readonly #inside: I;

  static {
    internals = (of) => of.#inside;
  }

  constructor(inside: I) {
    this.#inside = inside;
  }
}
