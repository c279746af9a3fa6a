import { code, plain } from "./markdown-text.js";
import { matrixMarkdown } from "./matrix-files.js";
import type { Report, Sentence, TableSentences } from "./report.js";
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
    ...groups.map(
      ({ name, note, facts }) =>
        `- **${plain(name)}** ${note === undefined ? "" : `${plain(note)} `}${plain(sayFacts(facts))}`,
    ),
    ...(screens.length === 0 ? [] : ["## Screens"]),
    ...screens.map(({ name, facts }) => `- **${plain(name)}** ${plain(sayFacts(facts))}`),
    "## Tables and their rules",
    ...tables.map(({ name, facts, fields, sentences }) => {
      const list = fields.map(({ name: field, type, marks }) => `${code(field)} ${plain([type, ...marks].join(", "))}`);
      const rules = sentences.length === 0 ? "No rule speaks of this table." : sentences.map(item).join("\n");
      return `### ${plain(name)}\n\n${plain(sayFacts(facts))}\n\n${list.join("; ")}\n\n${rules}`;
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
  return parts.map(({ table, sentences }) => `${plain(table)}:\n\n${sentences.map(item).join("\n")}`).join("\n\n");
}

function item({ rule, text, note }: Sentence): string {
  return `- ${plain(text)}${note === undefined ? "" : ` *${plain(note)}*`} ${code(rule)}`;
}
