/**
 * The three truth values of SQL (ISO/IEC 9075) as numbers in Kleene's order, so that "and" is the smaller of two,
 * "or" the greater, and "not" is `True - value`.
 */
export const False = 0;
export const Unknown = 1;
export const True = 2;

export type Truth = typeof False | typeof Unknown | typeof True;

export function not(truth: Truth): Truth {
  return (True - truth) as Truth;
}

export const truthNames = ["false", "unknown", "true"] as const;
