import { readFileSync } from "node:fs";
import { basename } from "node:path";
import { escaped, page } from "../../report/page.js";
import type { Locate, Path } from "../../schema/problems.js";
import type { RuleCoverage } from "../../verify/expectations/coverage.js";
import { uncovered } from "../../verify/expectations/uncovered.js";

/** How far something is covered, with the sign that says so without colour. */
const states = {
  whole: { sign: "✓", tone: "good", word: "covered in every part" },
  partly: { sign: "◐", tone: "half", word: "partly covered" },
  never: { sign: "✗", tone: "bad", word: "not covered" },
  later: { sign: "–", tone: "soft", word: "not there at this time" },
} as const;

type State = keyof typeof states;

/** What is said about one line of the file. */
interface Mark {
  readonly state: State;
  readonly notes: string[];
}

/** The rules file as a page, marked line by line with what expectations cover of it. */
export function coveragePage(rules: readonly RuleCoverage[], file: string, locate: Locate): string {
  const lines = readFileSync(file, "utf8").split(/\r?\n/);
  const marks = new Map<number, Mark>();
  const stripes = new Map<number, State>();
  for (const rule of rules) {
    const lineOf = (path: Path) => locate(path).line ?? 1;
    const first = lineOf(rule.path);
    const state = stateOf(rule);
    const mark = (line: number, at: State, ...notes: string[]) => {
      // A rule of every table, or one on a single line, has several things to say about it: the worst stands in front.
      const known = marks.get(line);
      const isWorse = known === undefined || worst.indexOf(at) < worst.indexOf(known.state);
      marks.set(line, { state: isWorse ? at : known.state, notes: [...new Set([...(known?.notes ?? []), ...notes])] });
    };
    const about = state === "later" ? ["not in force at this time"] : rule.applied ? [] : ["it decided no answer"];
    mark(first, state, ...about);
    for (let line = first; line <= lastLine(lines, first); line++) stripes.set(line, state);
    if (state === "later") continue;
    for (const part of partsOf(rule)) mark(lineOf([...rule.path, ...part.path]), part.state, ...part.notes);
  }
  const count = (state: State) => rules.filter((rule) => stateOf(rule) === state).length;
  const legend = (["whole", "partly", "never", "later"] as const)
    .map(
      (state) =>
        `<span class="${states[state].tone}">${states[state].sign} ${count(state)} ${states[state].word}</span>`,
    )
    .join(" &nbsp; ");
  const body = lines.map((text, index) => {
    const mark = marks.get(index + 1);
    const stripe = stripes.get(index + 1);
    const { sign = "", tone = "", word = "" } = mark === undefined ? {} : states[mark.state];
    const notes = (mark?.notes ?? []).map(escaped).join("; ");
    return `<tr${stripe === undefined ? "" : ` class="in ${stripe}"`}><td class="no">${index + 1}</td><td class="${tone}" title="${word}">${sign}</td><td><pre>${escaped(text)}</pre></td><td class="note ${tone}">${notes}</td></tr>`;
  });
  return page(
    `Coverage of ${basename(file)}`,
    style,
    `<h1>${escaped(basename(file))}</h1>\n<p>Coverage of its ${rules.length} rules by the expectations.</p>\n<p>${legend}</p>\n<table class="file">\n${body.join("\n")}\n</table>`,
  );
}

const worst: readonly State[] = ["never", "partly", "later", "whole"];

const style = `table.file { width: 100%; } .file td { border: 0; padding: 0 .5rem; } .file td { font-size: 13px; line-height: 1.5; } .file pre { margin: 0; white-space: pre-wrap; }
.file .no { color: var(--soft); text-align: right; font: 12px/1.6 ui-monospace, "DejaVu Sans Mono", monospace; user-select: none; }
.file .note { font-size: 13px; width: 30%; } tr.in { background: var(--band); }
tr.in td.no { border-left: 4px solid var(--good); } tr.partly td.no { border-left-color: var(--half); border-left-style: double; }
tr.never td.no { border-left-color: var(--bad); border-left-style: dotted; } tr.later td.no { border-left-color: var(--line); }`;

function stateOf(rule: RuleCoverage): State {
  if (!rule.isInForce && !rule.applied) return "later";
  if (!rule.applied) return "never";
  return uncovered(rule).length === 0 ? "whole" : "partly";
}

/** The parts of a rule that have a line of their own. */
function partsOf(rule: RuleCoverage): { path: Path; state: State; notes: string[] }[] {
  const { where, entriesNotCovered, isForAnyone, who, fieldsNotCovered, effect } = rule;
  const parts: { path: Path; state: State; notes: string[] }[] = [];
  if (!isForAnyone) {
    const notes = entriesNotCovered.length === 0 ? [] : [`nobody matched: ${entriesNotCovered.join(", ")}`];
    if (!who.notApplied && notes.length === 0) notes.push("nobody it does not apply to was asked about");
    parts.push({ path: ["to"], state: notes.length === 0 ? "whole" : who.applied ? "partly" : "never", notes });
  }
  if (where !== undefined) {
    const outcomes = (["true", "false", "unknown"] as const).map((one) => `${one} ${where[one] ? "✓" : "✗"}`);
    const state = where.true && where.false ? "whole" : where.true || where.false ? "partly" : "never";
    parts.push({ path: ["where"], state, notes: [outcomes.join("  ")] });
  }
  const byAction = new Map<string, string[]>();
  for (const one of fieldsNotCovered) {
    const [action = "", ...field] = one.split(" ");
    byAction.set(action, [...(byAction.get(action) ?? []), field.join(" ")]);
  }
  for (const [action, fields] of byAction) {
    parts.push({
      path: [effect, action],
      state: "partly",
      notes: [`fields not covered: ${action} ${fields.join(", ")}`],
    });
  }
  return parts;
}

/** The last line of what begins at a line: all that follow and are indented more deeply. */
function lastLine(lines: readonly string[], first: number): number {
  const depth = (text: string) => text.length - text.trimStart().length;
  const own = depth(lines[first - 1] ?? "");
  let last = first;
  for (let line = first + 1; line <= lines.length; line++) {
    const text = lines[line - 1] ?? "";
    if (text.trim() === "") continue;
    if (depth(text) <= own) break;
    last = line;
  }
  return last;
}
