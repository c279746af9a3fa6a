import { sentence } from "../schema/problems.js";
import type { Explanation } from "./explain.js";
import { type Remedy, valuesOf } from "./missing.js";
import type { EntryTrace, RuleTrace } from "./trace.js";

/** An explanation in words, in the order in which it is read; for a page to lay out. */
export interface ExplanationWords {
  readonly verdict: "yes" | "no";
  /** `Odalys Quint cannot view insured_value of objects/BM-SH-0001: only registrar or director may.` */
  readonly answer: string;
  /** The address of the rule that decided, where one did. */
  readonly rule: string | undefined;
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

const reaches = {
  all: "every record",
  own: "records they own",
  some: "some records",
  none: "records",
} as const;

const effectWords = {
  deny: ["denies", "would deny"],
  reserve: ["reserves", "would reserve"],
  permit: ["permits", "would permit"],
  confirm: ["asks to confirm", "would ask to confirm"],
} as const;

/**
 * Puts an explanation into words. Every sentence about a decision is made here.
 *
 * @param person What to call the person.
 * @param record What to call the record, such as `objects/BM-SH-0001`. Default: the table, or a record of it.
 */
export function explanationWords(
  explanation: Explanation,
  person = "this person",
  record = explanation.reach === undefined ? `this record of ${explanation.table}` : explanation.table,
): ExplanationWords {
  const { decision, reach, rules, roles, remedies, toSeeRecord, field } = explanation;
  const bearing = rules.filter((trace) => trace.applies !== "no");
  const others = rules.filter((trace) => trace.applies === "no" && trace.covers);
  const ofFields = field === undefined;
  const sections = [
    ruleSection(reach === undefined ? "Rules that apply" : "Rules that may apply", bearing, ofFields),
    missingSection("What would allow it", remedies),
    missingSection("What would let them see the record", toSeeRecord),
    ruleSection("Rules that do not apply", others, ofFields),
  ].filter(({ entries }) => entries.length > 0);
  return {
    verdict: isYes(explanation) ? "yes" : "no",
    answer: answer(explanation, person, record),
    rule: decision?.rule,
    note: decision?.note,
    roles: roles.length === 0 ? "none" : roles.join(", "),
    sections,
  };
}

/** An explanation as lines of plain text, without colour; `person` and `record` as for {@link explanationWords}. */
export function explanationText(explanation: Explanation, person: string, record: string): string {
  const words = explanationWords(explanation, person, record);
  const lines = [`${words.verdict.toUpperCase()}  ${words.answer}`, ""];
  if (words.rule !== undefined) lines.push(`  Decided by  ${words.rule}`);
  if (words.note !== undefined) lines.push(`  Note        ${words.note}`);
  lines.push(`  Roles       ${words.roles}`);
  for (const { kind, title, entries } of words.sections) {
    const isChoice = kind === "missing" && entries.length > 1;
    lines.push("", isChoice ? `${title} (any one of these is enough)` : title);
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

function isYes({ decision, reach, isActive }: Explanation): boolean {
  return isActive && (decision === undefined ? (reach ?? "none") !== "none" : decision.permitted);
}

/** One sentence: who may or cannot do what, and why. */
function answer(explanation: Explanation, person: string, record: string): string {
  const { decision, reach, isActive, action, field } = explanation;
  const fields = field === undefined ? "" : `${field} of `;
  const verb = isYes(explanation) ? "may" : "cannot";
  if (!isActive)
    return sentence(`${person} cannot ${action} ${fields}${record}: they are not active, or not in the people table`);
  if (decision === undefined) {
    return sentence(`${person} ${verb} ${action} ${fields}${reaches[reach ?? "none"]} of ${record}`);
  }
  const why = decision.permitted ? "" : `: ${whyNot(explanation)}`;
  const confirmed = decision.confirm === undefined ? "" : ", after a confirmation";
  const tentative = decision.tentative === true ? ", if the new values allow it" : "";
  return sentence(`${person} ${verb} ${action} ${fields}${record}${why}${confirmed}${tentative}`);
}

function whyNot({ decision, rules, field, action }: Explanation): string {
  const decided = rules.find(({ rule }) => rule === decision?.rule);
  switch (decision?.reason) {
    case "reserved":
      return decided === undefined ? "it is reserved for others" : `only ${audience([decided])} may`;
    case "denied":
      return decided === undefined ? "it is denied" : `it is denied to ${audience([decided])}`;
    case "not-found":
      return "for them this record does not exist";
    case "fault":
      return "the decision failed, so it is denied";
    default: {
      const permits = rules.filter(({ effect, covers }) => effect === "permit" && covers);
      if (permits.length === 0) return `no rule permits anybody to ${action} ${field === undefined ? "it" : field}`;
      const own = permits.filter(({ to }) => to.truth === "true");
      if (own.length === 0) return `only ${audience(permits)} may`;
      const conditions = own.flatMap(({ where }) => (where === undefined ? [] : [where.text]));
      return conditions.length === 0
        ? "the rules that are for them do not apply"
        : `they may only where ${[...new Set(conditions)].join(" or ")}`;
    }
  }
}

/** `registrar or director`: for whom rules are, each name once. */
function audience(traces: readonly RuleTrace[]): string {
  const names = traces.flatMap(({ to }) => {
    const except = to.except.length === 0 ? "" : ` (except ${to.except.map(({ entry }) => entry).join(", ")})`;
    return to.to.map(({ entry }) => `${called(entry)}${except}`);
  });
  return listed([...new Set(names)]);
}

/** Roles and groups go by their names; the rest by what it stands for. */
function called(entry: string): string {
  if (entry === "anyone") return "everybody";
  if (entry === "signed-in") return "people who are signed in";
  return entry.replace(/\bowner\b/, "the owner").replace(/^(above|below) /, "those $1 ");
}

function listed(names: readonly string[]): string {
  if (names.length < 2) return names[0] ?? "nobody";
  return `${names.slice(0, -1).join(", ")} or ${names.at(-1)}`;
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
  const details = [{ label: trace.effect === "reserve" ? "for" : "to", text: whoText(trace) }];
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

function whoText({ to }: RuleTrace): string {
  const entries = to.to.map(entryText).join(", ");
  const except = to.except.length === 0 ? "" : `, except ${to.except.map(entryText).join(", ")}`;
  const isIn = { true: "they are", false: "they are not", unknown: "unknown", open: "depends on the record" }[to.truth];
  return `${entries}${except}  -> ${isIn}`;
}

/** `collections (through keeper, head)`: how the person comes to it. */
function entryText({ entry, through }: EntryTrace): string {
  return through.length === 0 ? entry : `${entry} (through ${through.join(", ")})`;
}
