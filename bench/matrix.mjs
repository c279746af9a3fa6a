// How long the access matrix of many persons takes on many records, and how it stands to asking cell by cell. The same
// process measures both; cell by cell is measured for some persons and counted up for all.
import { readFileSync } from "node:fs";
import { performance } from "node:perf_hooks";
import { parseDocument } from "../dist/document/index.js";
import { compile } from "../dist/index.js";
import { accessMatrix, personViewers } from "../dist/verify/index.js";

const persons = Number(process.env.PORTIER_PERSONS ?? 1_000);
const objects = Number(process.env.PORTIER_OBJECTS ?? 100_000);
const sampled = 8;

const { document } = parseDocument(
  readFileSync(new URL("../examples/museum/museum.portier.yaml", import.meta.url), "utf8"),
);
// The museum's objects have 13 fields; two more make them 15.
document.tables.objects.fields = { ...document.tables.objects.fields, weight: "integer", photographed: "boolean" };
const portier = compile(document);

const posts = ["volunteer", "assistant", "keeper", "head", "conservator", "registrar", "treasurer", "director"];
const departments = ["ships", "instruments", "textiles", "conservation", "education"];
const statuses = ["registered", "on_display", "on_loan", "withdrawn"];
let seed = 7;
const random = (below) => {
  seed = (Math.imul(seed, 1_103_515_245) + 12_345) & 0x7fffffff;
  return seed % below;
};
const staff = Array.from({ length: persons }, (_, index) => ({
  id: `s-${index}`,
  name: `Person ${index}`,
  post: posts[random(100) < 70 ? random(3) : random(posts.length)],
  department: departments[random(departments.length)],
  site: random(2) === 0 ? "north" : "south",
  manager: index === 0 ? null : `s-${random(index)}`,
  active: true,
  phone: "0",
  salary: "1",
}));
const rows = Array.from({ length: objects }, (_, index) => ({
  accession: `o-${index}`,
  title: `Object ${index}`,
  label: null,
  department: departments[random(departments.length)],
  keeper: `s-${random(persons)}`,
  status: statuses[random(statuses.length)],
  material: "wood",
  made_in: "here",
  acquired_on: "2001-01-01",
  donor: null,
  shelf: "A1",
  insured_value: "10",
  condition_note: null,
  weight: 1,
  photographed: true,
}));
const tables = {
  staff,
  objects: rows,
  exhibition_team: [],
  exhibitions: [],
  departments: [],
  portier_assignments: [],
  portier_delegations: [],
};
const source = portier.source(tables);

const begun = performance.now();
const viewers = personViewers(portier, staff, { source });
const opened = performance.now();
const matrix = accessMatrix(portier, viewers, {
  records: new Map(Object.entries(tables)),
  tables: ["objects"],
  fields: true,
});
const made = performance.now();

// Cell by cell: each question of the matrix asked of each record.
const chosen = matrix.filter(({ viewer }) => viewers.indexOf(viewer) % Math.ceil(persons / sampled) === 1);
const people = new Set(chosen.map(({ viewer }) => viewer.id));
let wrong = 0;
const naive = performance.now();
for (const { viewer, field, cells } of chosen) {
  for (const [action, cell] of cells) {
    if (cell.count === undefined) continue;
    let count = 0;
    for (const row of rows) if (viewer.session.may(action, "objects", row, field)) count++;
    if (count !== cell.count) wrong++;
  }
}
const each = (performance.now() - naive) / people.size;

const cells = matrix.reduce((sum, row) => sum + row.cells.size, 0);
const seconds = (ms) => `${(ms / 1000).toFixed(2)} s`;
console.log(`${persons} persons, ${objects} records, 15 fields: ${cells} cells`);
console.log(`opening sessions  ${seconds(opened - begun)}`);
console.log(`the matrix        ${seconds(made - opened)}`);
console.log(`cell by cell      ${seconds(each * (persons + 1))} (from ${people.size} persons)`);
console.log(`ratio             ${((made - opened) / (each * (persons + 1))).toFixed(4)}`);
console.log(`counts that differ ${wrong}`);
if (wrong > 0) process.exitCode = 1;
