import { matrixStyle, matrixTables } from "./matrix-files.js";
import { matrixLegend } from "./matrix-lines.js";
import { escaped, page } from "./page.js";
import type { Report, RoleReport, Sentence, TableReport, TableSentences } from "./report.js";
import { sayFacts } from "./say-rule.js";

/** A report as one HTML file that stands by itself and prints well. */
export function reportPage(report: Report): string {
  const { title, summary, picture, everybody, roles, groups, screens, tables, byRole, byPeople } = report;
  const matrices: readonly (readonly [id: string, name: string, html: string])[] = [
    ["by-role", "Who may do what, by role", matrixTables(byRole)],
    ...(byPeople.length === 0 ? [] : [["by-person", "Who may do what, by person", matrixTables(byPeople)] as const]),
  ];
  const contents = [
    ...(picture === undefined ? [] : [["picture", "Roles and groups"]]),
    ["roles", "What each role may do"],
    ...(groups.length === 0 ? [] : [["groups", "Groups"]]),
    ...(screens.length === 0 ? [] : [["screens", "Screens"]]),
    ["tables", "Tables and their rules"],
    ...matrices.map(([id, name]) => [id, name]),
  ].map(([id, name]) => `<li><a href="#${id}">${name}</a></li>`);
  const parts = [
    `<h1>${escaped(title)}</h1>\n<p class="soft">${escaped(summary)}</p>\n<nav><ul>${contents.join("")}</ul></nav>`,
    ...(picture === undefined
      ? []
      : [
          `<section id="picture"><h2>Roles and groups</h2>\n<p class="soft">An arrow leads to what comes with it: a role to the roles that it brings, and to the groups that it belongs to. Groups are round.</p>\n<div class="wide">${picture}</div></section>`,
        ]),
    `<section id="roles"><h2>What each role may do</h2>\n${everybodyPart(everybody)}${roles.map(rolePart).join("\n")}</section>`,
    ...(groups.length === 0
      ? []
      : [
          `<section id="groups"><h2>Groups</h2>\n<dl>${groups.map(({ name, note, facts }) => `<dt>${escaped(name)}</dt><dd>${noted(note)}${escaped(sayFacts(facts))}</dd>`).join("\n")}</dl></section>`,
        ]),
    ...(screens.length === 0
      ? []
      : [
          `<section id="screens"><h2>Screens</h2>\n<dl>${screens.map(({ name, note, facts }) => `<dt>${escaped(name)}</dt><dd>${noted(note)}${escaped(sayFacts(facts))}</dd>`).join("\n")}</dl></section>`,
        ]),
    `<section id="tables"><h2>Tables and their rules</h2>\n${tables.map(tablePart).join("\n")}</section>`,
    ...matrices.map(
      ([id, name, html]) =>
        `<section id="${id}" class="matrices"><h2>${name}</h2>\n<p class="soft">${matrixLegend(undefined).map(escaped).join(" &nbsp; ")}</p>\n${html.replaceAll("h2>", "h3>")}</section>`,
    ),
  ];
  return page(title, `${matrixStyle}\n${style}`, parts.join("\n"));
}

const style = `nav ul { columns: 2; padding-left: 1.2rem; } section { break-inside: auto; }
h3 { border-top: 1px solid var(--line); padding-top: .6rem; } h4 { margin: .6rem 0 .1rem; font-size: .95rem; color: var(--soft); font-weight: 600; }
ul.sentences { margin: .1rem 0 .4rem; padding-left: 1.2rem; } ul.sentences code { color: var(--soft); font-size: 12px; }
.note { color: var(--soft); font-style: italic; } dt { font-weight: 600; } dd { margin: 0 0 .5rem 1.2rem; }
.fields span { white-space: nowrap; margin-right: .8rem; } .sensitive { border-bottom: 2px dotted var(--bad); }
svg text { fill: var(--ink); font: 14px system-ui, "DejaVu Sans", sans-serif; text-anchor: middle; } svg .detail { font-size: 11px; fill: var(--soft); }
.roles rect { fill: var(--band); stroke: var(--soft); } .roles .group rect { fill: var(--paper); stroke: var(--link); }
.roles path { fill: none; stroke: var(--soft); stroke-width: 1.4; } .roles path.takes-in { stroke-dasharray: 5 4; stroke: var(--link); } .roles marker path { fill: var(--soft); stroke: none; }
.grid { margin: .6rem 0; } .grid svg { max-width: 100%; height: auto; } .grid line { stroke: var(--line); } .grid .head { font-size: 12px; fill: var(--soft); } .grid .name { font-size: 12px; font-weight: 600; }
.grid rect { fill: none; stroke-width: 2; } .grid g text { font-size: 11px; font-weight: 700; }
.grid .permit rect { stroke: var(--good); } .grid .deny rect { stroke: var(--bad); stroke-width: 3; } .grid .reserve rect { stroke: var(--half); stroke-dasharray: 7 3; } .grid .confirm rect { stroke: var(--link); stroke-dasharray: 2 3; }
.grid figcaption ul { list-style: none; padding: 0; font-size: 13px; } .grid .effect { font-family: ui-monospace, "DejaVu Sans Mono", monospace; }
@media print { nav { display: none; } .roles { max-width: 100%; height: auto; } h2 { break-before: page; } h3, h4 { break-after: avoid; } table, figure, li { break-inside: avoid; } a { text-decoration: none; } body { font-size: 12px; max-width: none; padding: 0; } }`;

function noted(note: string | undefined): string {
  return note === undefined ? "" : `<span class="note">${escaped(note)}</span> `;
}

function sentenceItem({ rule, text, note }: Sentence): string {
  return `<li>${escaped(text)} ${noted(note)}<code>${escaped(rule)}</code></li>`;
}

function sentenceList(parts: readonly TableSentences[]): string {
  return parts
    .map(
      ({ label, sentences }) =>
        `<h4>${escaped(label)}</h4><ul class="sentences">${sentences.map(sentenceItem).join("\n")}</ul>`,
    )
    .join("\n");
}

function everybodyPart(parts: readonly TableSentences[]): string {
  if (parts.length === 0) return "";
  return `<h3>By no role: everybody, and who stands in some relation to a record</h3>\n${sentenceList(parts)}\n`;
}

function rolePart({ name, note, facts, may }: RoleReport): string {
  const said = facts.length === 0 ? "" : `<span class="soft">${escaped(sayFacts(facts))}</span>`;
  return `<h3>${escaped(name)}</h3>\n<p>${noted(note)}${said}</p>\n${may.length === 0 ? "<p>No rule is for this role.</p>" : sentenceList(may)}`;
}

function tablePart({ name, label, note: about, facts, fields, sentences, grid }: TableReport): string {
  const list = fields.map(({ name: field, label: shown, type, note, marks }) => {
    const look = marks.includes("sensitive") ? ' class="sensitive"' : "";
    const rest = [type, ...marks, ...(note === undefined ? [] : [note])].join(", ");
    return `<span><b${look}>${escaped(shown)}</b> <code>${escaped(field)}</code> <span class="soft">${escaped(rest)}</span></span>`;
  });
  const rules =
    sentences.length === 0
      ? "<p>No rule covers this table: nobody may do anything with it.</p>"
      : `<ul class="sentences">${sentences.map(sentenceItem).join("\n")}</ul>`;
  return `<h3>${escaped(label)} <code>${escaped(name)}</code></h3>\n<p>${noted(about)}<span class="soft">${escaped(sayFacts(facts))}</span></p>\n<p class="fields">${list.join(" ")}</p>\n${grid ?? ""}\n${rules}`;
}
