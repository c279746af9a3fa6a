import type { ConditionTrace, RuleTrace } from "./trace.js";

/** One way in which the answer would have been a permit: everything in `needs` together. */
export interface Alternative {
  /** The permit that would then apply. */
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
 * What a denial lacks: for every permit that covers what was asked, the parts that were not met, and what would lift
 * the denies and reserves that apply; fewest first. Nothing lifts a deny to anyone without a condition.
 */
export function findAlternatives(rules: readonly RuleTrace[]): Alternative[] {
  const lifts: Need[] = [];
  for (const trace of rules) {
    if (trace.effect === "permit" || trace.effect === "confirm" || trace.applies !== "yes") continue;
    const lift = liftOf(trace);
    if (lift === undefined) return [];
    lifts.push(lift);
  }
  return rules
    .filter(
      (trace) =>
        trace.effect === "permit" &&
        trace.covers &&
        trace.period?.inForce !== false &&
        (trace.applies === "no" || lifts.length > 0),
    )
    .map(
      (trace): Alternative => ({
        rule: trace.rule,
        needs: merge([...whoNeeds(trace), ...lifts, ...whereNeeds(trace.where)]),
      }),
    )
    .filter(({ needs }) => needs.length > 0)
    .sort((a, b) => a.needs.length - b.needs.length);
}

/** What would take a deny or reserve that applies out of the way. */
function liftOf({ effect, to, where }: RuleTrace): Need | undefined {
  if (effect === "reserve") return toBe(to.to.map(({ entry }) => entry));
  const barred = to.to.filter(({ truth }) => truth !== "false").map(({ entry }) => entry);
  if (where !== undefined) return { kind: "where", text: `not (${where.text})`, ...hereOf(where) };
  return barred.includes("anyone") ? undefined : { kind: "who", text: `to be none of: ${barred.join(", ")}` };
}

function whoNeeds({ to }: RuleTrace): Need[] {
  if (to.truth === "true" || to.truth === "open") return [];
  if (!to.to.some(({ truth }) => truth === "true")) return [toBe(to.to.map(({ entry }) => entry))];
  const barred = to.except.filter(({ truth }) => truth !== "false").map(({ entry }) => entry);
  return [{ kind: "who", text: `to be none of: ${barred.join(", ")}` }];
}

const toBeWords = "to be: ";

function toBe(entries: readonly string[]): Need {
  return { kind: "who", text: toBeWords + entries.join(" or ") };
}

/** Leaves out a "to be a or b" beside a "to be a", which says more. */
function merge(needs: readonly Need[]): Need[] {
  const entriesOf = ({ text }: Need) => text.slice(toBeWords.length).split(" or ");
  const isWho = (need: Need) => need.kind === "who" && need.text.startsWith(toBeWords);
  return needs.filter((need, index) => {
    if (!isWho(need)) return true;
    return !needs.some((other, at) => {
      if (at === index || !isWho(other) || !entriesOf(other).every((entry) => entriesOf(need).includes(entry)))
        return false;
      return entriesOf(other).length < entriesOf(need).length || at < index;
    });
  });
}

/** The parts of a condition that keep it from being true. */
function whereNeeds(trace: ConditionTrace | undefined): Need[] {
  if (trace === undefined || trace.truth === "true" || trace.truth === "open") return [];
  if (trace.kind === "and") return trace.parts.flatMap(whereNeeds);
  return [{ kind: "where", text: trace.text, ...hereOf(trace) }];
}

function hereOf(trace: ConditionTrace): { here?: string } {
  const here = valuesOf(trace);
  return here === "" ? {} : { here };
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
