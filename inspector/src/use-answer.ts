import { useEffect, useState } from "react";

/** What a question came to; the last answer stays until the next is there. */
export interface Answer<R> {
  readonly answer: R | undefined;
  readonly failure: string | undefined;
  /** Whether the answer is not to this question yet. */
  readonly isAsking: boolean;
}

/** Asks whenever the key is another: it says all that the question depends on. */
export function useAnswer<R>(question: () => Promise<R>, key: string): Answer<R> {
  const [known, setKnown] = useState<{ readonly key: string; readonly answer?: R; readonly failure?: string }>();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key says what the question depends on
  useEffect(() => {
    let isCurrent = true;
    question().then(
      (answer) => isCurrent && setKnown({ key, answer }),
      (error: Error) => isCurrent && setKnown({ key, failure: error.message }),
    );
    return () => {
      isCurrent = false;
    };
  }, [key]);
  const isAsking = known?.key !== key;
  return { answer: known?.answer, failure: isAsking ? undefined : known?.failure, isAsking };
}
