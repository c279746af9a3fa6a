/**
 * The truth values of SQL (ISO/IEC 9075) in Kleene's logic, with unknown told apart by its cause: a null, or bad data.
 * The numbers are ordered so that "and" is the smallest of its terms and "or" the greatest. Every rule treats both kinds
 * of unknown alike; only `exists` and `may` ask for the cause.
 */
export const False = 0;
export const Unknown = 1;
/** Unknown because a stored value does not fit its type: with the right value it could be anything. */
export const Bad = 2;
export const True = 3;

export type Truth = typeof False | typeof Unknown | typeof Bad | typeof True;

const negated = [True, Unknown, Bad, False] as const;

export function not(truth: Truth): Truth {
  return negated[truth];
}

/** A truth value as explanations name it. */
export const truthNames = ["false", "unknown", "unknown", "true"] as const;
