import type { Explanation } from "./explain.js";
import { type Alternative, valuesOf } from "./missing.js";
import type { RuleTrace } from "./trace.js";

const reasons = {
  permitted: "a rule permits it and none forbids it",
  denied: "a rule denies it",
  reserved: "a rule reserves it for others",
  "not-permitted": "no rule permits it",
  "not-found": "for this person there is no such record",
  fault: "deciding failed, so it is denied",
} as const;

const reaches = {
  all: "YES: on every record",
  own: "YES: on own records",
  some: "YES: on some records",
  none: "NO: on no record",
} as const;

const effectWords = {
  deny: ["denies", "would deny"],
  reserve: ["reserves", "would reserve"],
  permit: ["permits", "would permit"],
} as const;

/** An explanation as lines of plain text, without colour. `whose` names the person, `what` the thing asked about. */
export function explanationText(explanation: Explanation, whose: string, what: string): string {
  const lines = [`May ${whose} ${explanation.action} ${what}?`, "", `  ${answer(explanation)}`];
  const { decision } = explanation;
  if (decision?.note !== undefined) lines.push(`  Note of the rule: ${decision.note}`);
  lines.push(`  Roles held: ${explanation.roles.length === 0 ? "none" : explanation.roles.join(", ")}`);

  const bearing = explanation.rules.filter((trace) => trace.applies !== "no");
  const others = explanation.rules.filter((trace) => trace.applies === "no" && trace.covers);
  const ofFields = explanation.field === undefined;
  section(
    lines,
    explanation.reach === undefined ? "Rules that bear on it" : "Rules that may bear on it",
    bearing,
    ofFields,
  );
  alternatives(lines, "To know of the record (any one of these)", explanation.toKnow);
  const further = explanation.toKnow.length > 0 ? "And then (any one of these)" : "What is missing (any one of these)";
  alternatives(lines, further, explanation.alternatives);
  section(lines, "Rules that cover it but do not apply", others, ofFields);
  if (explanation.rules.every((trace) => !trace.covers)) lines.push("", "No rule covers it for anybody.");
  return `${lines.join("\n")}\n`;
}

function alternatives(lines: string[], title: string, list: readonly Alternative[]): void {
  if (list.length === 0) return;
  lines.push("", title);
  for (const { rule, needs } of list) {
    const parts = needs.map(({ text, here }) => (here === undefined ? text : `${text} (here ${here})`));
    lines.push(`  - ${parts.join(", and ")}`, `      by ${rule}`);
  }
}

function answer({ decision, reach }: Explanation): string {
  if (decision === undefined) return reaches[reach ?? "none"];
  const by = decision.rule === undefined ? "" : ` (${decision.rule})`;
  const tentative = decision.tentative === true ? "; the new values decide" : "";
  return `${decision.permitted ? "YES" : "NO"}: ${reasons[decision.reason]}${by}${tentative}`;
}

function section(lines: string[], title: string, traces: readonly RuleTrace[], ofFields: boolean): void {
  if (traces.length === 0) return;
  lines.push("", title);
  for (const trace of traces) {
    const [does, would] = effectWords[trace.effect];
    const fields = ofFields ? fieldsText(trace.fields) : "";
    lines.push(`  ${trace.rule}  ${trace.applies === "yes" ? does : would} ${trace.action}${fields}`);
    lines.push(`    to     ${whoText(trace)}`);
    if (trace.where !== undefined) {
      const { text, truth } = trace.where;
      const values = valuesOf(trace.where);
      const met = truth === "open" ? "depends on the record" : truth;
      lines.push(`    where  ${text}  -> ${met}${values === "" ? "" : `: ${values}`}`);
    }
    if (trace.becomes !== undefined)
      lines.push(`    becomes  ${trace.becomes}  -> decided when the new values are known`);
  }
}

function fieldsText(fields: readonly string[]): string {
  if (fields.length === 0) return "";
  const rest = fields.length - 4;
  return ` of ${fields.slice(0, 4).join(", ")}${rest > 0 ? ` and ${rest} more` : ""}`;
}

function whoText({ to, effect }: RuleTrace): string {
  const entries = to.to.map(({ entry }) => entry).join(", ");
  const except = to.except.length === 0 ? "" : `, except ${to.except.map(({ entry }) => entry).join(", ")}`;
  const met = { true: "met", false: "not met", unknown: "unknown", open: "depends on the record" }[to.truth];
  const kept = effect === "reserve" ? " (kept by)" : "";
  return `${entries}${except}${kept}  -> ${met}`;
}
