import type { ConditionTrace, RuleTrace } from "./trace.js";

/** One way in which the answer would have been a permit: everything in `needs` together. */
export interface Alternative {
  readonly rule: string;
  readonly needs: readonly Need[];
}

/** `text` says what is needed; `here` what is there instead. */
export interface Need {
  readonly kind: "who" | "where";
  readonly text: string;
  readonly here?: string;
}

/**
 * What a denial lacks: for every permit that covers what was asked, the parts that were not met, fewest first. While a
 * deny or reserve applies, no permit would help, and there is no alternative.
 */
export function findAlternatives(rules: readonly RuleTrace[]): Alternative[] {
  if (rules.some((trace) => trace.effect !== "permit" && trace.applies === "yes")) return [];
  const alternatives = rules
    .filter((trace) => trace.effect === "permit" && trace.covers && trace.applies === "no")
    .map((trace): Alternative => ({ rule: trace.rule, needs: [...whoNeeds(trace), ...whereNeeds(trace.where)] }))
    .filter(({ needs }) => needs.length > 0);
  return alternatives.sort((a, b) => a.needs.length - b.needs.length);
}

function whoNeeds({ to }: RuleTrace): Need[] {
  if (to.truth === "true" || to.truth === "open") return [];
  const met = to.to.some(({ truth }) => truth === "true");
  if (met) {
    const barred = to.except.filter(({ truth }) => truth !== "false").map(({ entry }) => entry);
    return [{ kind: "who", text: `to be none of: ${barred.join(", ")}` }];
  }
  return [{ kind: "who", text: `to be: ${to.to.map(({ entry }) => entry).join(" or ")}` }];
}

/** The parts of a condition that keep it from being true. */
function whereNeeds(trace: ConditionTrace | undefined): Need[] {
  if (trace === undefined || trace.truth === "true" || trace.truth === "open") return [];
  if (trace.kind === "and") return trace.parts.flatMap(whereNeeds);
  const here = valuesOf(trace);
  return [{ kind: "where", text: trace.text, ...(here === "" ? {} : { here }) }];
}

/** `department is 'arms', me.department is 'textiles'`, each name once. */
export function valuesOf(trace: ConditionTrace): string {
  const values = new Map<string, string>();
  const visit = (one: ConditionTrace) => {
    for (const { name, value } of one.values) values.set(name, value);
    for (const part of one.parts) visit(part);
  };
  visit(trace);
  return [...values].map(([name, value]) => `${name} is ${value}`).join(", ");
}
