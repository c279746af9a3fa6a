import type { Explanation } from "./explain.js";
import { type Remedy, valuesOf } from "./missing.js";
import type { EntryTrace, RuleTrace } from "./trace.js";

/** An explanation in words, in the order in which it is read; for a page to lay out. */
export interface ExplanationWords {
  /** `NO: a rule reserves it for others (objects/value-stays-in-the-office)` */
  readonly answer: string;
  /** The deciding rule's note: all of this that the current user may be shown. */
  readonly note: string | undefined;
  /** `assistant, keeper`, or `none`. */
  readonly roles: string;
  /** None of them empty. */
  readonly sections: readonly WordSection[];
}

export interface WordSection {
  readonly kind: "missing" | "rules";
  readonly title: string;
  readonly entries: readonly WordEntry[];
}

export interface WordEntry {
  readonly text: string;
  /** What belongs to it: a label such as `where`, and the words. */
  readonly details: readonly { readonly label: string; readonly text: string }[];
}

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
  confirm: ["asks to confirm", "would ask to confirm"],
} as const;

/** Puts an explanation into words. Every sentence about a decision is made here. */
export function explanationWords(explanation: Explanation): ExplanationWords {
  const { decision, reach, rules, roles, alternatives, toSeeRecord, field } = explanation;
  const bearing = rules.filter((trace) => trace.applies !== "no");
  const others = rules.filter((trace) => trace.applies === "no" && trace.covers);
  const ofFields = field === undefined;
  const sections = [
    ruleSection(reach === undefined ? "Rules that bear on it" : "Rules that may bear on it", bearing, ofFields),
    missingSection("What is missing (any one of these)", alternatives),
    missingSection("To know of the record at all (any one of these)", toSeeRecord),
    ruleSection("Rules that cover it but do not apply", others, ofFields),
  ].filter(({ entries }) => entries.length > 0);
  return {
    answer: answer(explanation),
    note: decision?.note,
    roles: roles.length === 0 ? "none" : roles.join(", "),
    sections,
  };
}

/** An explanation as lines of plain text, without colour. `whose` names the person, `what` the thing asked about. */
export function explanationText(explanation: Explanation, whose: string, what: string): string {
  const words = explanationWords(explanation);
  const lines = [`May ${whose} ${explanation.action} ${what}?`, "", `  ${words.answer}`];
  if (words.note !== undefined) lines.push(`  Note of the rule: ${words.note}`);
  lines.push(`  Roles held: ${words.roles}`);
  for (const { kind, title, entries } of words.sections) {
    lines.push("", title);
    for (const { text, details } of entries) {
      lines.push(kind === "missing" ? `  - ${text}` : `  ${text}`);
      for (const detail of details) {
        lines.push(
          kind === "missing" ? `      ${detail.label} ${detail.text}` : `    ${detail.label.padEnd(8)} ${detail.text}`,
        );
      }
    }
  }
  if (explanation.rules.every((trace) => !trace.covers)) lines.push("", "No rule covers it for anybody.");
  return `${lines.join("\n")}\n`;
}

function answer({ decision, reach, meets }: Explanation): string {
  if (!meets) return "NO: this person is not active or not among the people, so no rule is met";
  if (decision === undefined) return reaches[reach ?? "none"];
  const by = decision.rule === undefined ? "" : ` (${decision.rule})`;
  const tentative = decision.tentative === true ? "; the new values decide" : "";
  const asked =
    decision.confirm === undefined
      ? ""
      : `; to be confirmed first (${decision.confirm.map(({ rule }) => rule).join(", ")})`;
  return `${decision.permitted ? "YES" : "NO"}: ${reasons[decision.reason]}${by}${asked}${tentative}`;
}

function missingSection(title: string, list: readonly Remedy[]): WordSection {
  const entries = list.map(({ rule, needs }): WordEntry => {
    const parts = needs.map(({ text, here }) => (here === undefined ? text : `${text} (here ${here})`));
    return { text: parts.join(", and "), details: [{ label: "by", text: rule }] };
  });
  return { kind: "missing", title, entries };
}

function ruleSection(title: string, traces: readonly RuleTrace[], ofFields: boolean): WordSection {
  return { kind: "rules", title, entries: traces.map((trace) => ruleEntry(trace, ofFields)) };
}

function ruleEntry(trace: RuleTrace, ofFields: boolean): WordEntry {
  const [does, would] = effectWords[trace.effect];
  const details = [{ label: "to", text: whoText(trace) }];
  if (trace.where !== undefined) {
    const { text, truth } = trace.where;
    const values = valuesOf(trace.where);
    const met = truth === "open" ? "depends on the record" : truth;
    details.push({ label: "where", text: `${text}  -> ${met}${values === "" ? "" : `: ${values}`}` });
  }
  if (trace.becomes !== undefined) {
    details.push({ label: "becomes", text: `${trace.becomes}  -> decided when the new values are known` });
  }
  if (trace.period !== undefined) {
    const { from, until, inForce } = trace.period;
    const bounds = [from && `from ${instant(from)}`, until && `until ${instant(until)}`].filter(Boolean).join(" ");
    details.push({ label: "time", text: `${bounds}  -> ${inForce ? "in force" : "not in force"}` });
  }
  const fields = ofFields ? fieldsText(trace.fields) : "";
  return { text: `${trace.rule}  ${trace.applies === "yes" ? does : would} ${trace.action}${fields}`, details };
}

/** An instant without a fraction that says nothing. */
function instant(canonical: string): string {
  return canonical.replace(".000000Z", "Z");
}

function fieldsText(fields: readonly string[]): string {
  if (fields.length === 0) return "";
  const rest = fields.length - 4;
  return ` of ${fields.slice(0, 4).join(", ")}${rest > 0 ? ` and ${rest} more` : ""}`;
}

function whoText({ to, effect }: RuleTrace): string {
  const entries = to.to.map(entryText).join(", ");
  const except = to.except.length === 0 ? "" : `, except ${to.except.map(entryText).join(", ")}`;
  const met = { true: "met", false: "not met", unknown: "unknown", open: "depends on the record" }[to.truth];
  const kept = effect === "reserve" ? " (kept by)" : "";
  return `${entries}${except}${kept}  -> ${met}`;
}

/** `collections (through keeper, head)`: how the person comes to it. */
function entryText({ entry, through }: EntryTrace): string {
  return through.length === 0 ? entry : `${entry} (through ${through.join(", ")})`;
}
