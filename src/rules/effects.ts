import { and, type Expression, not } from "../conditions/expression.js";

/** What a kind of rule means. Everything that depends on the effect reads it here. */
export interface Effect {
  readonly name: EffectName;
  /** Whether a rule must say `to`; otherwise it is for anyone. */
  readonly needsTo: boolean;
  /** Whether `all`, `first..last`, cells leave out what must be named: sensitive fields, the owner, for edits the key. */
  readonly namesSensitive: boolean;
  /**
   * `block` stops when its test is true or unknown. `permit` lets through when its test is true. `confirm` attaches a
   * message to what is let through when its test is true or unknown.
   */
  readonly phase: "block" | "permit" | "confirm";
  /** The reason of a decision that this effect made; a confirm makes none. */
  readonly reason: "permitted" | "denied" | "reserved" | undefined;
  /** Whether the effect can speak of showing and taking out (list, view, export). */
  readonly coversReading: boolean;
  /** Who a rule stops, permits or asks, from whether the person meets its `to`. */
  readonly meets: (to: Expression) => Expression;
}

/** In the order in which a decision looks at them and names its reason. */
export const effectNames = ["deny", "reserve", "permit", "confirm"] as const;

/** What a rule does with its extent. */
export type EffectName = (typeof effectNames)[number];

const asSaid = (to: Expression) => to;

export const effects: Readonly<Record<EffectName, Effect>> = {
  deny: {
    name: "deny",
    needsTo: false,
    namesSensitive: false,
    phase: "block",
    reason: "denied",
    coversReading: true,
    meets: asSaid,
  },
  // Only those in `to` keep what they otherwise have: for everybody else it is a deny, also while "else" is unknown.
  reserve: {
    name: "reserve",
    needsTo: true,
    namesSensitive: false,
    phase: "block",
    reason: "reserved",
    coversReading: true,
    meets: not,
  },
  permit: {
    name: "permit",
    needsTo: true,
    namesSensitive: true,
    phase: "permit",
    reason: "permitted",
    coversReading: true,
    meets: asSaid,
  },
  confirm: {
    name: "confirm",
    needsTo: false,
    namesSensitive: false,
    phase: "confirm",
    reason: undefined,
    coversReading: false,
    meets: asSaid,
  },
};

/** The one test of a rule, from who it stops, permits or asks and whether the record meets its condition. */
export function ruleTest(who: Expression, where: Expression): Expression {
  return and([who, where]);
}
