import { code, plain } from "./markdown-text.js";
import { matrixMarkdown } from "./matrix-files.js";
import type { FieldReport, GroupReport, Report, ScreenReport, Sentence, TableSentences } from "./report.js";
import { sayFacts } from "./say-rule.js";

/** A report as Markdown, for a wiki or a review: the same sentences and tables, without the pictures. */
export function reportMarkdown(report: Report): string {
  const { title, summary, everybody, roles, groups, screens, tables, byRole, byPeople } = report;
  const parts = [
    `# ${plain(title)}\n\n${plain(summary)}`,
    "## What each role may do",
    ...(everybody.length === 0
      ? []
      : [`### By no role: everybody, and who stands in some relation to a record\n\n${sentenceList(everybody)}`]),
    ...roles.map(({ name, note, facts, may }) => {
      const said = [
        ...(note === undefined ? [] : [plain(note)]),
        ...(facts.length === 0 ? [] : [`${plain(sayFacts(facts))}`]),
      ];
      const rules = may.length === 0 ? "No rule is for this role." : sentenceList(may);
      return [`### ${plain(name)}`, ...(said.length === 0 ? [] : [said.join(" ")]), rules].join("\n\n");
    }),
    ...(groups.length === 0 ? [] : ["## Groups"]),
    ...groups.map((group) => definition(group)),
    ...(screens.length === 0 ? [] : ["## Screens"]),
    ...screens.map((screen) => definition(screen)),
    "## Tables and their rules",
    ...tables.map(({ name, label, note, facts, fields, sentences }) => {
      const rules = sentences.length === 0 ? "No rule covers this table." : sentences.map(item).join("\n");
      const said = `${noted(note)}${plain(sayFacts(facts))}`;
      return `### ${plain(label)} (${code(name)})\n\n${said}\n\n${fields.map(fieldItem).join("\n")}\n\n${rules}`;
    }),
    `## Who may do what, by role\n\n${matrixMarkdown(byRole)}`,
    ...(byPeople.length === 0 ? [] : [`## Who may do what, by person\n\n${matrixMarkdown(byPeople)}`]),
  ];
  return `${parts
    .join("\n\n")
    .replace(/\n{3,}/g, "\n\n")
    .trim()}\n`;
}

function sentenceList(parts: readonly TableSentences[]): string {
  return parts.map(({ label, sentences }) => `${plain(label)}:\n\n${sentences.map(item).join("\n")}`).join("\n\n");
}

function definition({ name, note, facts }: ScreenReport | GroupReport): string {
  return `- **${plain(name)}** ${noted(note)}${plain(sayFacts(facts))}`;
}

function noted(note: string | undefined): string {
  return note === undefined ? "" : `${plain(note)} `;
}

function fieldItem({ name, label, type, note, marks }: FieldReport): string {
  return `- **${plain(label)}** ${code(name)}, ${plain([type, ...marks].join(", "))}${note === undefined ? "" : `. ${plain(note)}`}`;
}

function item({ rule, text, note }: Sentence): string {
  return `- ${plain(text)}${note === undefined ? "" : ` *${plain(note)}*`} ${code(rule)}`;
}
