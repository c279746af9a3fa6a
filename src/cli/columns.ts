import Table from "cli-table3";
import stringWidth from "string-width";

const gap = 2;

/**
 * Rows under headings, without lines, in `width` columns: the widest columns give way first and end in "…". `least` are
 * widths to keep where there is room, so that several tables stand under each other.
 */
export function columns(
  headings: readonly string[],
  rows: readonly (readonly string[])[],
  width: number,
  least: readonly number[] = [],
): string {
  const natural = headings.map((heading, index) => {
    const cells = rows.map((row) => stringWidth(row[index] ?? ""));
    return Math.max(least[index] ?? 0, stringWidth(heading), ...cells);
  });
  const widths = narrow(natural, width - gap * headings.length);
  const table = new Table({
    head: [...headings],
    colWidths: widths.map((size) => size + gap),
    chars: noLines,
    style: { head: [], border: [], "padding-left": 0, "padding-right": gap },
    wordWrap: false,
  });
  table.push(...rows.map((row) => [...row]));
  return `${table
    .toString()
    .split("\n")
    .map((line) => line.trimEnd())
    .join("\n")}\n`;
}

/** Short parts one after the other, on as many lines as they need. */
export function folded(parts: readonly string[], width: number): string {
  const lines: string[] = [];
  for (const part of parts) {
    const last = lines[lines.length - 1];
    const joined = `${last}   ${part}`;
    if (last !== undefined && stringWidth(joined) <= width) lines[lines.length - 1] = joined;
    else lines.push(part);
  }
  return lines.join("\n");
}

const widestCell = 32;

/**
 * Many columns in readable widths: where they do not all fit, they go into bands below each other. The first `lead`
 * columns, which say what a row is, are never cut and stand in every band.
 */
export function bands(
  headings: readonly string[],
  rows: readonly (readonly string[])[],
  width: number,
  lead: number,
): string {
  const sizes = headings.map((heading, index) => {
    const natural = Math.max(stringWidth(heading), ...rows.map((row) => stringWidth(row[index] ?? "")));
    return gap + (index < lead ? natural : Math.min(natural, widestCell));
  });
  const leadSize = sizes.slice(0, lead).reduce((sum, size) => sum + size, 0);
  const parts: number[][] = [];
  let room = 0;
  for (const [index, size] of sizes.entries()) {
    if (index < lead) continue;
    room -= size;
    if (room < 0) {
      parts.push([]);
      room = width - leadSize - size;
    }
    parts[parts.length - 1]?.push(index);
  }
  const leading = Array.from({ length: lead }, (_, index) => index);
  const printed = parts.map((part) => {
    const chosen = [...leading, ...part];
    const pick = (cells: readonly string[]) => chosen.map((index) => cells[index] ?? "");
    return columns(
      pick(headings),
      rows.map(pick),
      chosen.reduce((sum, index) => sum + (sizes[index] ?? 0), 0),
    );
  });
  return printed.join("\n");
}

/** Takes from the widest until the sum fits; no column gets narrower than 4. */
function narrow(natural: readonly number[], width: number): number[] {
  const widths = [...natural];
  let surplus = widths.reduce((sum, size) => sum + size, 0) - width;
  while (surplus > 0) {
    const widest = Math.max(...widths);
    if (widest <= 4) break;
    widths[widths.indexOf(widest)] = widest - 1;
    surplus--;
  }
  return widths;
}

const noLines = Object.fromEntries(
  [
    "top",
    "top-mid",
    "top-left",
    "top-right",
    "bottom",
    "bottom-mid",
    "bottom-left",
    "bottom-right",
    "left",
    "left-mid",
    "mid",
    "mid-mid",
    "right",
    "right-mid",
    "middle",
  ].map((name) => [name, ""]),
);
