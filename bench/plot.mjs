// Draws what "node bench/decisions.mjs --json" measured, as docs/performance.svg:
//
//   node bench/decisions.mjs --json | node bench/plot.mjs
//
// One line a measure: the median of the ratios to hand-written code, between its quartiles, on a logarithmic scale. On the left
// of the line at 1, Portier takes less time than the hand-written code.
import { readFileSync, writeFileSync } from "node:fs";

const rows = JSON.parse(readFileSync(0, "utf8")).filter(({ ratio }) => ratio !== undefined);
const shapes = [...new Set(rows.map(({ shape }) => shape))];
const left = 330;
const width = 940;
const step = 17;
const headed = shapes.length * 34 + rows.length * step;
const [least, most] = [0.25, 8];
const x = (ratio) => {
  const at = Math.log(Math.min(Math.max(ratio, least), most) / least) / Math.log(most / least);
  return left + at * (width - left - 70);
};
const text = (at, y, content, more = "") => `<text x="${at.toFixed(1)}" y="${y}" ${more}>${content}</text>`;
const parts = [];
let y = 46;
for (const mark of [0.25, 0.5, 1, 2, 4, 8]) {
  const isOne = mark === 1;
  parts.push(
    `<line x1="${x(mark)}" x2="${x(mark)}" y1="40" y2="${headed + 46}" class="${isOne ? "one" : "mark"}"/>`,
    text(x(mark), 32, isOne ? "as hand-written" : `${mark}`, 'text-anchor="middle" class="scale"'),
  );
}
for (const shape of shapes) {
  y += 20;
  parts.push(text(12, y, shape, 'class="shape"'));
  y += 4;
  for (const { what, ratio, from, to } of rows.filter((row) => row.shape === shape)) {
    y += step;
    parts.push(
      text(left - 14, y, what, 'text-anchor="end"'),
      `<line x1="${x(from)}" x2="${x(to)}" y1="${y - 4}" y2="${y - 4}" class="spread"/>`,
      `<circle cx="${x(ratio)}" cy="${y - 4}" r="4" class="${ratio <= 1 ? "less" : "more"}"/>`,
      text(width - 12, y, ratio.toFixed(2), 'text-anchor="end" class="number"'),
    );
  }
  y += 10;
}
const style = `
  svg { background: #fff; font: 12px system-ui, sans-serif; } text { fill: #333; }
  .shape { font-weight: 600; } .scale { fill: #667; font-size: 11px; } .number { font-variant-numeric: tabular-nums; }
  .mark { stroke: #e3e6ea; } .one { stroke: #8a94a0; stroke-width: 1.5; }
  .spread { stroke: #9ab; stroke-width: 3; stroke-linecap: round; } .less { fill: #1d6b45; } .more { fill: #35618f; }`;
const height = y + 14;
const size = `viewBox="0 0 ${width} ${height}" width="${width}" height="${height}"`;
const title = "CPU time of Portier divided by that of hand-written code of equal safety";
writeFileSync(
  new URL("../docs/performance.svg", import.meta.url),
  `<svg xmlns="http://www.w3.org/2000/svg" ${size} role="img" aria-label="${title}"><style>${style}</style>
${text(12, 16, title, 'class="shape"')}
${parts.join("\n")}
</svg>
`,
);
