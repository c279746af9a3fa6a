/** Why something is or is not permitted. */
export type Reason = "permitted" | "denied" | "reserved" | "not-permitted" | "not-found" | "fault";

/** An answer. `rule` and `reason` are for developers and logs; a person may be shown `note`. */
export interface Decision {
  /** False also where a fault or bad data left it undecided. */
  readonly permitted: boolean;
  /** `permitted`, or why not. */
  readonly reason: Reason;
  /** The address of the rule that decided; for a permit one that is enough. Absent where no rule did. */
  readonly rule?: string;
  /** What the deciding rule protects and why, in its author's words. */
  readonly note?: string;
  /** An edit asked about without values may still be refused when its values are known. */
  readonly tentative?: true;
  /** What must be confirmed before it is done. Never empty. */
  readonly confirm?: readonly Confirmation[];
}

/** A message to be confirmed: the change is repeated with the rule's address among those that were confirmed. */
export interface Confirmation {
  /** The address of the rule that asks: what `confirmed` takes. */
  readonly rule: string;
  /** What to ask the person; absent where the rule has no note. */
  readonly note?: string;
}

export const notPermitted: Decision = Object.freeze({ permitted: false, reason: "not-permitted" });
export const notFound: Decision = Object.freeze({ permitted: false, reason: "not-found" });
export const faulted: Decision = Object.freeze({ permitted: false, reason: "fault" });

/** The decision with more to confirm; the same object when there is nothing more. */
export function withConfirmations(decision: Decision, more: readonly Confirmation[] | undefined): Decision {
  if (more === undefined || more.length === 0 || !decision.permitted) return decision;
  const known = decision.confirm ?? [];
  const added = more.filter(({ rule }) => !known.some((one) => one.rule === rule));
  return added.length === 0 ? decision : { ...decision, confirm: [...known, ...added] };
}
