import type { EffectName } from "../rules/effects.js";
import { type CellRange, columnLetters, overlaps, printRange } from "../rules/ranges.js";
import type { Rule } from "../rules/rule.js";
import type { Grid } from "../schema/schema.js";
import { escaped } from "./page.js";

const cell = { width: 104, height: 26, row: 52, head: 44 } as const;

/** How many boxes stand inside each other before they stand on each other. */
const mostInside = 4;

/** A cell range of a rule, with the number that it has in the picture. */
interface Drawn {
  readonly number: number;
  readonly rule: Rule;
  readonly range: CellRange;
}

/**
 * The cell ranges that rules speak of, drawn on the sheet as an SVG: rows between which nothing changes are one. Each
 * rule has a number, and each effect a line of its own, so that they are told apart without colour.
 */
export function drawGrid({ columns }: Grid, rules: readonly Rule[]): string {
  const ranged = rules.filter((rule) => [...rule.extents.values()].some(({ cells }) => cells !== undefined));
  const drawn = ranged.flatMap((rule, index) => {
    const ranges = [...rule.extents.values()].flatMap(({ cells }) => cells?.ranges ?? []);
    const different = new Map(ranges.map((range) => [printRange(range), range]));
    return [...different.values()].map((range): Drawn => ({ number: index + 1, rule, range }));
  });
  const segments = segmentsOf(drawn.map(({ range }) => range));
  const width = cell.head + columns.length * cell.width + 2;
  const height = cell.height * 2 + cell.row * segments.length + 2;
  const x = (column: number) => cell.head + (Math.min(column, columns.length + 1) - 1) * cell.width;
  const y = (index: number) => cell.height * 2 + cell.row * index;
  const lines = [
    ...columns.map(
      (field, index) =>
        text(x(index + 1) + cell.width / 2, 18, columnLetters(index + 1), "head") +
        text(x(index + 1) + cell.width / 2, 18 + cell.height, field.label, "name"),
    ),
    ...segments.map(({ label }, index) => text(cell.head / 2, y(index) + cell.row / 2 + 4, label, "head")),
    ...Array.from({ length: columns.length + 1 }, (_, index) =>
      line(x(index + 1), cell.height, x(index + 1), height - 2),
    ),
    ...Array.from({ length: segments.length + 1 }, (_, index) => line(cell.head, y(index), width - 2, y(index))),
  ];
  // Wide ranges stand outside: each box is a little inside those that it shares cells with.
  const size = ({ range }: Drawn) => (range.right - range.left) * 1e6 + Math.min(range.bottom - range.top, 1e5);
  const outerFirst = [...drawn].sort((one, other) => size(other) - size(one) || one.number - other.number);
  const depths = new Map<Drawn, number>();
  for (const one of outerFirst) {
    const around = [...depths].filter(([other]) => overlaps(other.range, one.range)).map(([, depth]) => depth + 1);
    depths.set(one, Math.min(mostInside, Math.max(0, ...around)));
  }
  const boxes = outerFirst.map((one) => {
    const { number, rule, range } = one;
    const depth = depths.get(one) ?? 0;
    const inset = 3 + depth * 5;
    const first = segments.findIndex(({ to }) => to >= range.top);
    const last = segments.findLastIndex(({ from }) => from <= range.bottom);
    const [left, top] = [x(range.left) + inset, y(first) + inset];
    const [right, bottom] = [x(Math.min(range.right, columns.length) + 1) - inset, y(last + 1) - inset];
    return `<g class="${rule.effect.name}"><title>${escaped(`${number}: ${rule.address}, ${printRange(range)}`)}</title><rect x="${left}" y="${top}" width="${Math.max(4, right - left)}" height="${Math.max(4, bottom - top)}"/><text x="${left + 10 + depth * 14}" y="${(top + bottom) / 2 + 4}">${number}</text></g>`;
  });
  const legend = ranged.map((rule, index) => {
    const ranges = drawn.filter((one) => one.number === index + 1).map(({ range }) => printRange(range));
    return `<li><b>${index + 1}</b> <span class="effect">${effectSigns[rule.effect.name]} ${rule.effect.name}</span> ${escaped(ranges.join(", "))} <code>${escaped(rule.address)}</code></li>`;
  });
  return `<figure class="grid"><svg role="img" aria-label="The cell ranges of the rules" viewBox="0 0 ${width} ${height}" width="${width}" height="${height}" xmlns="http://www.w3.org/2000/svg">
${lines.join("\n")}
${boxes.join("\n")}
</svg>
<figcaption><ul>${legend.join("")}</ul></figcaption></figure>`;
}

/** How the box of each effect is drawn: the line says it as well as the colour. */
const effectSigns: Readonly<Record<EffectName, string>> = {
  permit: "───",
  deny: "━━━",
  reserve: "┅┅┅",
  confirm: "┈┈┈",
};

interface Segment {
  readonly from: number;
  readonly to: number;
  readonly label: string;
}

/** Rows between the borders of ranges. The last is open. */
function segmentsOf(ranges: readonly CellRange[]): Segment[] {
  const borders = new Set([1]);
  for (const { top, bottom } of ranges) {
    borders.add(top);
    if (Number.isFinite(bottom)) borders.add(bottom + 1);
  }
  const starts = [...borders].sort((a, b) => a - b);
  return starts.map((from, index) => {
    const to = (starts[index + 1] ?? Number.POSITIVE_INFINITY) - 1;
    const label = to === from ? String(from) : Number.isFinite(to) ? `${from}–${to}` : `${from}…`;
    return { from, to, label };
  });
}

function text(x: number, y: number, said: string, look: string): string {
  return `<text class="${look}" x="${x}" y="${y}">${escaped(said)}</text>`;
}

function line(x1: number, y1: number, x2: number, y2: number): string {
  return `<line x1="${x1}" y1="${y1}" x2="${x2}" y2="${y2}"/>`;
}
