import { printCsv } from "../schema/print-csv.js";
import type { MatrixRow } from "../verify/matrix.js";
import type { CompareCell } from "../verify/matrix-differences.js";
import { plain } from "./markdown-text.js";
import { cellText, type MatrixLine, matrixBlocks, matrixLegend, viewerName } from "./matrix-lines.js";
import { escaped, page } from "./page.js";

/** A line for each cell, as in RFC 4180, for a spreadsheet or a script. */
export function matrixCsv(rows: readonly MatrixRow[], compare: CompareCell | undefined): string {
  const headings = ["kind", "id", "name", "roles", "table", "field", "action", "reach", "count"];
  const lines = [compare === undefined ? headings : [...headings, "difference"]];
  for (const row of rows) {
    const { viewer, table, field = "", cells } = row;
    for (const [action, { reach, count }] of cells) {
      const { kind, id, name, roles } = viewer;
      const line = [
        kind,
        id,
        name,
        roles.join(" "),
        table,
        field,
        action,
        reach,
        count === undefined ? "" : String(count),
      ];
      lines.push(compare === undefined ? line : [...line, compare(row, action) ?? ""]);
    }
  }
  return printCsv(lines);
}

export function matrixMarkdown(rows: readonly MatrixRow[], compare?: CompareCell, baseline?: string): string {
  const parts = matrixBlocks(rows, compare).map(({ table, actions, lines }) => {
    const head = `| | ${actions.join(" | ")} |\n|---|${actions.map(() => "---|").join("")}`;
    const body = lines.map((line) => {
      const marks = actions.map((action) => cellText(line.row.cells.get(action), compare?.(line.row, action)));
      return `| ${[plain(lineName(line, "  ")), ...marks].join(" | ")} |`;
    });
    return `### ${plain(table)}\n\n${head}\n${body.join("\n")}\n`;
  });
  return `${parts.join("\n")}\n${matrixLegend(baseline)
    .map((one) => `- ${one}`)
    .join("\n")}\n`;
}

function lineName({ viewers, fields }: MatrixLine, indent: string): string {
  return fields === undefined ? viewers.map(viewerName).join(", ") : `${indent}${fields.join(", ")}`;
}

export function matrixPage(
  rows: readonly MatrixRow[],
  compare: CompareCell | undefined,
  baseline: string | undefined,
): string {
  const title = baseline === undefined ? "Who may do what" : `Who may do what, compared with ${baseline}`;
  const intro = `<h1>${escaped(title)}</h1>\n<p class="soft">${matrixLegend(baseline).map(escaped).join(" &nbsp; ")}</p>`;
  return page(title, matrixStyle, `${intro}\n${matrixTables(rows, compare)}`);
}

export const matrixStyle = `table.matrix { margin: .3rem 0 1.2rem; } .matrix td:first-child { min-width: 18rem; max-width: 34rem; }
@media print { .matrix { font-size: 11px; } .matrix td:first-child { min-width: 6rem; } .matrix th, .matrix td { padding: .1rem .35rem; } }
.matrix .all { color: var(--good); font-weight: 600; } .matrix .some { color: var(--half); } .matrix .own { color: var(--link); }
.matrix .none { color: var(--soft); } .matrix .field td { border-bottom-style: dotted; font-size: 13px; }
.matrix .field td:first-child { padding-left: 2rem; color: var(--soft); } .matrix .differs { background: var(--band); outline: 1px solid var(--line); }`;

/** A table for each table of the document. */
export function matrixTables(rows: readonly MatrixRow[], compare?: CompareCell): string {
  return matrixBlocks(rows, compare)
    .map(({ table, actions, lines }) => {
      const head = ["", ...actions].map((action) => `<th scope="col">${escaped(action)}</th>`).join("");
      const body = lines.map((line) => {
        const cells = actions.map((action) => {
          const cell = line.row.cells.get(action);
          const difference = compare?.(line.row, action);
          const look = [cell?.reach ?? "", ...(difference === undefined ? [] : ["differs"])].join(" ");
          return `<td class="${look}">${escaped(cellText(cell, difference))}</td>`;
        });
        const kind = line.fields === undefined ? "" : ' class="field"';
        return `<tr${kind}><td>${escaped(lineName(line, ""))}</td>${cells.join("")}</tr>`;
      });
      return `<h2>${escaped(table)}</h2>\n<div class="wide"><table class="matrix">\n<thead><tr>${head}</tr></thead>\n<tbody>\n${body.join("\n")}\n</tbody>\n</table></div>`;
    })
    .join("\n");
}
