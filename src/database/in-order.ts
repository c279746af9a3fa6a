/** Runs work one after the other, whatever came of the one before: for what has one session, or one file. */
export function inOrder(): <T>(work: () => Promise<T>) => Promise<T> {
  let last: Promise<unknown> = Promise.resolve();
  return (work) => {
    const next = last.then(work);
    last = next.catch(() => {});
    return next;
  };
}
