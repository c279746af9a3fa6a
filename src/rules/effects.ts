import { and, type Expression, not } from "../conditions/expression.js";

/** What a kind of rule means. Everything that depends on the effect reads it here. */
export interface Effect {
  readonly name: EffectName;
  /** Whether a rule must say `to`; otherwise it is for anyone. */
  readonly needsTo: boolean;
  /** Whether `all`, `first..last` leave out what must be named: sensitive fields, the owner, for edits the key. */
  readonly namesSensitive: boolean;
  /** `permit` lets through when its test is true; `block` stops when its test is true or unknown. */
  readonly phase: "permit" | "block";
  /** The reason of a decision that this effect made. */
  readonly reason: "permitted" | "denied" | "reserved";
  /** The one test of a rule, from whether the person meets `to` and whether the record meets `where`. */
  readonly test: (to: Expression, where: Expression) => Expression;
}

/** In the order in which a decision names its reason. */
export const effectNames = ["deny", "reserve", "permit"] as const;

export type EffectName = (typeof effectNames)[number];

export const effects: Readonly<Record<EffectName, Effect>> = {
  deny: {
    name: "deny",
    needsTo: false,
    namesSensitive: false,
    phase: "block",
    reason: "denied",
    test: (to, where) => and([to, where]),
  },
  // Only those in `to` keep what they otherwise have: for everybody else it is a deny, also while "else" is unknown.
  reserve: {
    name: "reserve",
    needsTo: true,
    namesSensitive: false,
    phase: "block",
    reason: "reserved",
    test: (to, where) => and([where, not(to)]),
  },
  permit: {
    name: "permit",
    needsTo: true,
    namesSensitive: true,
    phase: "permit",
    reason: "permitted",
    test: (to, where) => and([to, where]),
  },
};
