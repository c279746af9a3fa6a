// What a decision and an opened session cost when everything around them grows; and compiling against reading YAML.
// Ratios within this run, medians of turns. Part of "npm run bench".
import { stringify } from "yaml";
import { parseDocument } from "../dist/document/index.js";
import { compile } from "../dist/index.js";
import { median } from "./measure.mjs";
import { makeShape, person } from "./shapes.mjs";

const rounds = 11;
const documentOf = () => makeShape().document;
const records = makeShape().makeRecords(20_000);
let sink = 0;

function time(work) {
  const start = process.hrtime.bigint();
  work();
  return Number(process.hrtime.bigint() - start);
}

/** The median of the ratios of two works done by turns, and the median time of the first, per item. */
function ratioOf(name, items, ours, base) {
  for (let i = 0; i < 3; i++) {
    ours();
    base();
  }
  const pairs = Array.from({ length: rounds }, () => [time(ours), time(base)]);
  const ratio = median(pairs.map(([a, b]) => a / b));
  const each = median(pairs.map(([a]) => a)) / items;
  console.log(`${name.padEnd(62)} ${ratio.toFixed(2).padStart(6)}x   ${each.toFixed(0).padStart(8)} ns`);
}

const decideAll = (session) => () => {
  for (let i = 0; i < records.length; i++) if (session.may("view", "objects", records[i], "label")) sink++;
};
const openMany = (portier, options) => () => {
  for (let i = 0; i < 2_000; i++) sink += portier.session(options).roles.length;
};

const plain = compile(documentOf());
const base = plain.session({ person });

const other = (index) => ({
  key: "id",
  fields: { id: "text", a: "text" },
  rules: Object.fromEntries(
    Array.from({ length: 100 }, (_, rule) => [
      `r${rule}`,
      { to: "keeper", where: `a = '${index}'`, permit: { view: "all" } },
    ]),
  ),
});
const manyRules = documentOf();
for (let index = 0; index < 100; index++) manyRules.tables[`other${index}`] = other(index);
const manyRoles = documentOf();
for (let index = 0; index < 1_000; index++) manyRoles.roles[`role${index}`] = {};
const people = Array.from({ length: 100_000 }, (_, index) => ({ ...person, id: `s-${index}`, manager: null }));

console.log(`\n${"".padEnd(62)}   ratio   grown`);
const grownRules = compile(manyRules);
const grownRoles = compile(manyRoles);
const grownPeople = plain.source({ staff: people });
ratioOf(
  "decision with 10,000 rules in other tables",
  records.length,
  decideAll(grownRules.session({ person })),
  decideAll(base),
);
ratioOf("decision with 1,000 roles", records.length, decideAll(grownRoles.session({ person })), decideAll(base));
ratioOf(
  "decision with 100,000 people",
  records.length,
  decideAll(plain.session({ person: "s-50000", source: grownPeople })),
  decideAll(base),
);
ratioOf(
  "opening with 10,000 rules in other tables",
  2_000,
  openMany(grownRules, { person }),
  openMany(plain, { person }),
);
const few = plain.source({ staff: people.slice(0, 24) });
ratioOf(
  "opening with 100,000 people",
  2_000,
  openMany(plain, { person: "s-9", source: grownPeople }),
  openMany(plain, { person: "s-9", source: few }),
);

// 1,000 ranges on a grid of 50 columns: a decision must not look through them.
const letters = Array.from({ length: 50 }, (_, index) => `c${index}`);
const grid = (count) => ({
  portier: 1,
  people: { table: "staff", roles: "post" },
  roles: { keeper: {}, head: {} },
  tables: {
    staff: { key: "id", fields: { id: "text", post: "text" } },
    sheet: {
      key: "id",
      grid: { position: "row", columns: letters },
      fields: { id: "text", row: "integer", ...Object.fromEntries(letters.map((name) => [name, "text"])) },
      rules: {
        open: { to: "keeper", permit: { view: "all", edit: "all" } },
        ...Object.fromEntries(
          Array.from({ length: count }, (_, index) => [
            `r${index}`,
            { to: "head", reserve: { edit: { cells: `A${index * 100 + 1}:AX${index * 100 + 50}` } } },
          ]),
        ),
      },
    },
  },
});
const sheet = Array.from({ length: 100_000 }, (_, index) => ({
  id: String(index),
  row: index + 1,
  ...Object.fromEntries(letters.map((name) => [name, "x"])),
}));
const cellsOf = (count) => {
  const session = compile(grid(count)).session({ person: { id: "p", post: "keeper" } });
  return () => {
    for (let i = 0; i < sheet.length; i++) if (session.may("edit", "sheet", sheet[i], letters[i % 5])) sink++;
  };
};
ratioOf("cell of 100,000 x 50 with 1,000 ranges, against 1 range", sheet.length, cellsOf(1_000), cellsOf(1));

const thousand = documentOf();
for (let index = 0; index < 10; index++) thousand.tables[`other${index}`] = other(index);
const yaml = stringify(thousand);
ratioOf(
  "compiling 1,000 rules, against reading their YAML",
  1,
  () => compile(thousand),
  () => parseDocument(yaml),
);

if (sink < 0) console.log(sink);
