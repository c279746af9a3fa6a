// What protected cells cost on a sheet of 100,000 rows and 50 columns: opening a session under 10,000 protections, as they are
// and after one of them has changed, and deciding about cells under 10,000 against under one. In memory, in one run by turns.
// Run with "npm run bench:protections".

import { compile } from "../dist/index.js";
import { sqlite, where } from "../dist/sql/index.js";
import { compareRuns, median } from "./measure.mjs";

const columns = 50;
const height = 100_000;
const many = 10_000;
const fields = Array.from({ length: columns }, (_, at) => `c${at}`);
const portier = compile({
  portier: 1,
  people: { table: "staff", roles: "post", assignments: true },
  roles: { clerk: {}, chief: {} },
  tables: {
    staff: { key: "id", fields: { id: "text", post: { choice: ["clerk", "chief"] } } },
    sheet: {
      key: "id",
      grid: { position: "row", protections: true },
      fields: {
        ...{ id: "text", row: "integer" },
        ...Object.fromEntries(fields.map((name) => [name, { type: "integer", optional: true }])),
      },
      rules: {
        "all-write": { to: ["clerk", "chief"], permit: { view: "all", edit: `c0..c${columns - 1}` } },
        "chief-protects": { to: "chief", permit: { protect: "all" } },
      },
    },
  },
});

const letters = (at) => (at < 26 ? "" : "A") + String.fromCharCode(65 + (at % 26));
const staff = [
  { id: "clerk", post: "clerk" },
  { id: "chief", post: "chief" },
];
const protections = (count) =>
  Array.from({ length: count }, (_, at) => {
    const [column, row] = [letters(at % columns), 1 + ((at * 97) % height)];
    return Object.freeze({
      ...{ id: `p${at}`, table: "sheet", ranges: [`${column}${row}:${column}${row + 3}`], except: null },
      ...{ effect: at % 7 === 0 ? "confirm" : "reserve", to: at % 3 === 0 ? ["person chief"] : ["chief"] },
      ...{ note: `note ${at}`, from: null, until: null, by: "chief", at: "2027-01-01T00:00:00Z", stamp: at },
    });
  });
const sourceOf = (rows) => portier.source({ staff, portier_protections: rows });
const lots = protections(many);
// Both protect something in the column that is asked about.
const [manySource, oneSource] = [lots, lots.slice(1, 2)].map(sourceOf);
const cell = { id: "r", row: 98, c1: 1 };
const opened = (source, person) => portier.session({ person, source }).may("edit", "sheet", cell, "c1");

const begun = performance.now();
opened(manySource, "clerk");
report("the first session and cell of a process", `${Math.round(performance.now() - begun)} ms`);

// A protection is changed: all others are as they were.
const changed = [];
for (let turn = 0; turn < 12; turn++) {
  const source = sourceOf([...lots.slice(turn + 1), { ...lots[0], id: `new ${turn}`, stamp: turn }]);
  source.referring("portier_protections", "table", "sheet");
  const from = performance.now();
  opened(source, turn % 2 === 0 ? "clerk" : "chief");
  changed.push(performance.now() - from);
}
report("after one of 10,000 has changed, with its first cell", `${Math.round(median(changed))} ms`);

for (let turn = 0; turn < 2_000; turn++) for (const source of [manySource, oneSource]) opened(source, "clerk");
report(
  "open a session and ask of a cell, 10,000 : 1",
  compareRuns(
    500,
    () => Array.from({ length: 500 }, () => opened(manySource, "clerk")),
    () => Array.from({ length: 500 }, () => opened(oneSource, "clerk")),
  ),
);

const rows = Array.from({ length: height / 10 }, (_, at) => ({ id: `r${at}`, row: 1 + at * 10, c1: at, c7: at }));
const asked = (source) => {
  const session = portier.session({ person: "clerk", source });
  return () => rows.filter((row) => session.may("edit", "sheet", row, "c1")).length;
};
report("a cell, 10,000 : 1", compareRuns(rows.length, asked(manySource), asked(oneSource)));

const statement = performance.now();
const { text, params } = where(portier.session({ person: "clerk", source: manySource }), "sheet", "edit", sqlite);
report(
  "the statement of what may be edited",
  `${Math.round(performance.now() - statement)} ms, ${params.length} values, ${Math.round(text.length / 1000)} kB`,
);

function report(what, said) {
  const { ratio, from, to, ours, byHand } = said;
  const text =
    typeof said === "string"
      ? said
      : `${ratio.toFixed(2)}x (${from.toFixed(2)} to ${to.toFixed(2)})  ${ours.toFixed(0)} : ${byHand.toFixed(0)} ns`;
  console.log(`${what.padEnd(60)} ${text}`);
}
