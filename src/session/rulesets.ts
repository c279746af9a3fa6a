import type { Ruleset } from "../rules/ruleset.js";

/** The rules behind each compiled document; inside the package only. */
const rulesets = new WeakMap<object, Ruleset>();

export function keepRuleset(portier: object, ruleset: Ruleset): void {
  rulesets.set(portier, ruleset);
}

export function rulesetOf(portier: object): Ruleset {
  const found = rulesets.get(portier);
  if (found === undefined) throw new TypeError("this is not a Portier that compile made");
  return found;
}
