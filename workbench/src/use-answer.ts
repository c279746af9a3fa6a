import { useEffect, useState } from "react";

/** What a question came to; the last answer stays until the next is there. */
export interface Answer<R> {
  readonly answer: R | undefined;
  readonly failure: string | undefined;
  readonly isAsking: boolean;
}

/** Asks whenever the key is another: it says all that the question depends on. */
export function useAnswer<R>(question: () => Promise<R>, key: string): Answer<R> {
  const [state, setState] = useState<Answer<R>>({ answer: undefined, failure: undefined, isAsking: true });
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key says what the question depends on
  useEffect(() => {
    let isCurrent = true;
    setState(({ answer }) => ({ answer, failure: undefined, isAsking: true }));
    question().then(
      (answer) => isCurrent && setState({ answer, failure: undefined, isAsking: false }),
      (error: Error) => isCurrent && setState({ answer: undefined, failure: error.message, isAsking: false }),
    );
    return () => {
      isCurrent = false;
    };
  }, [key]);
  return state;
}
