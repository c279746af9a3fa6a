// Compares Portier with hand-written code of the same logic, both in this run, by turns. Prints ratios (Portier divided
// by hand-written, median of the rounds); absolute times belong to the machine. Run with "npm run bench".
import { compile } from "../dist/index.js";
import { documentOf, handWritten, makeRecords, person } from "./museum-like.mjs";

const rounds = 15;

function time(work) {
  const start = process.hrtime.bigint();
  work();
  return Number(process.hrtime.bigint() - start);
}

function median(values) {
  const sorted = [...values].sort((a, b) => a - b);
  return sorted[Math.floor(sorted.length / 2)];
}

/** Runs both by turns, warm, and gives the median of the ratios with the medians of both times per item. */
function compareRuns(name, items, ours, theirs) {
  for (let i = 0; i < 4; i++) {
    ours();
    theirs();
  }
  const pairs = Array.from({ length: rounds }, () => [time(ours), time(theirs)]);
  const ratio = median(pairs.map(([a, b]) => a / b));
  const each = (index) => `${(median(pairs.map((pair) => pair[index])) / items).toFixed(0)} ns`;
  console.log(`${name.padEnd(52)} ${ratio.toFixed(2).padStart(6)}x   ${each(0).padStart(8)} : ${each(1)}`);
}

const portier = compile(documentOf());
const records = makeRecords(100_000);
const session = portier.session({ person, request: { now: "2026-11-24T09:00:00Z" } });

// Both must do the same before their times mean anything.
let sink = 0;
const check = (ours, theirs, what) => {
  if (JSON.stringify(ours) !== JSON.stringify(theirs)) throw new Error(`the two differ in ${what}`);
};
for (const row of records.slice(0, 2_000)) {
  check(session.mask("objects", row, "list"), handWritten.mask(person, row), "mask");
  for (const field of ["title", "label", "shelf", "insured_value", "status"]) {
    check(session.may("view", "objects", row, field), handWritten.mayView(person, row, field), `view ${field}`);
    check(session.may("edit", "objects", row, field), handWritten.mayEdit(person, row, field), `edit ${field}`);
  }
}

console.log(`${"".padEnd(52)}   ratio   ours : hand-written (median of ${rounds})`);
for (const [action, mayByHand] of [
  ["view", handWritten.mayView],
  ["edit", handWritten.mayEdit],
]) {
  for (const field of ["label", "insured_value"]) {
    compareRuns(
      `may ${action} one field, warm session (${field})`,
      records.length,
      () => {
        for (let i = 0; i < records.length; i++) if (session.may(action, "objects", records[i], field)) sink++;
      },
      () => {
        for (let i = 0; i < records.length; i++) if (mayByHand(person, records[i], field)) sink++;
      },
    );
  }
}
compareRuns(
  "mask 100,000 records of 15 fields",
  records.length,
  () => {
    sink += session.maskAll("objects", records).length;
  },
  () => {
    sink += handWritten.maskAll(person, records).length;
  },
);
const edits = records.slice(0, 20_000);
compareRuns(
  "accept an edit of one field",
  edits.length,
  () => {
    for (const row of edits) if (session.accept("edit", "objects", row, { label: "new" }).accepted) sink++;
  },
  () => {
    for (const row of edits) if (handWritten.acceptEdit(person, row, { label: "new" }).accepted) sink++;
  },
);
const openings = 20_000;
const start = process.hrtime.bigint();
for (let i = 0; i < openings; i++) if (portier.session({ person }).may("view", "objects", records[0], "label")) sink++;
const opening = Number(process.hrtime.bigint() - start) / openings;
console.log(`\nopening a session for an equal person, and one decision: ${(opening / 1000).toFixed(1)} us`);
if (sink < 0) console.log(sink);
