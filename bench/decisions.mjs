// Decisions, masks, changes and openings against hand-written code of equal safety (see shapes.mjs), in CPU time, by turns.
//
//   node bench/decisions.mjs [--json] [--only TEXT]
//
// Each shape runs in a process of its own: what a program makes of one shape is not to slow down the next, as an
// application has one. Prints ratios (Portier divided by hand-written code); absolute times belong to the machine.
import { spawnSync } from "node:child_process";
import { compareRuns, cpu, median } from "./measure.mjs";
import { knownByHand, makeShape, person } from "./shapes.mjs";

const library = process.env.PORTIER_BENCH ?? "../dist/index.js";
const shapes = {
  "15 fields, 8 rules": { size: { fields: 15, rules: 8 }, measure: measureAll },
  "15 fields, 8 rules, an owner": { size: { fields: 15, rules: 8, hasOwner: true }, measure: measureAll },
  "15 fields, 8 rules, five record shapes": { size: { fields: 15, rules: 8 }, measure: measureMixed },
  "3 fields, 5 rules": { size: { fields: 3, rules: 5 }, measure: measureGrowth },
  "15 fields, 30 rules": { size: { fields: 15, rules: 30 }, measure: measureGrowth },
  "15 fields, 300 rules": { size: { fields: 15, rules: 300 }, measure: measureGrowth },
  "60 fields, 300 rules": { size: { fields: 60, rules: 300 }, measure: measureGrowth },
  people: { size: { hasOwner: true }, measure: measurePeople },
};

function measureEach() {
  const only = process.argv.includes("--only") ? process.argv[process.argv.indexOf("--only") + 1] : "";
  const asJson = process.argv.includes("--json");
  const rows = [];
  if (!asJson) console.log(`${"".padEnd(70)}  ratio  (quartiles)          ns : hand-written`);
  for (const name of Object.keys(shapes).filter((one) => one.includes(only))) {
    const child = spawnSync(process.execPath, ["--expose-gc", import.meta.filename, "--shape", name], {
      encoding: "utf8",
    });
    if (child.status !== 0) throw new Error(child.stderr);
    for (const row of JSON.parse(child.stdout)) {
      rows.push({ shape: name, ...row });
      if (!asJson) console.log(line(name, row));
    }
  }
  if (asJson) console.log(JSON.stringify(rows, undefined, 2));
}

function line(shape, { what, ratio, from, to, ours, byHand, bytes }) {
  const title = `${shape}: ${what}`.padEnd(70);
  if (ratio === undefined) {
    const kept = bytes === undefined ? "" : `, ${(bytes / 1_000).toFixed(1)} kB kept of each`;
    return `${title}  ${(ours / 1_000).toFixed(1)} us${kept}`;
  }
  const spread = `(${from.toFixed(2)} - ${to.toFixed(2)})`.padEnd(16);
  return `${title} ${ratio.toFixed(2).padStart(6)}  ${spread} ${ours.toFixed(1).padStart(9)} : ${byHand.toFixed(1)}`;
}

async function measureShape(name) {
  const { compile } = await import(library);
  const { size, measure } = shapes[name];
  const shape = makeShape(size);
  return measure({ ...shape, compile, portier: compile(shape.document), who: knownByHand(person) });
}

let sink = 0;

/** Both must do the same before their times mean anything: also with what is null, and what does not fit. */
function checkEqual({ portier, byHand, makeRecords, fields, who }) {
  const session = portier.session({ person, onDiagnostic: () => {} });
  const same = (ours, theirs, what) => {
    if (JSON.stringify(ours) !== JSON.stringify(theirs)) {
      throw new Error(`the two differ in ${what}: ${JSON.stringify(ours)} / ${JSON.stringify(theirs)}`);
    }
  };
  const spoilt = ["status", "department", "label", "title"].filter((name) => name in fields);
  const records = makeRecords(400).flatMap((row, i) => [
    row,
    { ...row, [spoilt[i % spoilt.length]]: [null, 17, true][i % 3] },
  ]);
  for (const row of records) {
    same(session.maskAll("objects", [row])[0], byHand.maskAll(who, [row])[0], "a mask");
    for (const field of Object.keys(fields)) {
      same(session.may("view", "objects", row, field), byHand.mayView(who, row, field), `view ${field}`);
      same(session.may("edit", "objects", row, field), byHand.mayEdit(who, row, field), `edit ${field}`);
      // What a reference leads to is looked up, which hand-written code does elsewhere.
      if (fields[field].reference !== undefined) continue;
      const value = { [field]: field === "status" ? "on_loan" : "new" };
      const { accepted } = session.checkEdit("objects", row, value);
      same(accepted, byHand.acceptEdit(who, row, value).accepted, `a changed ${field}`);
    }
  }
}

function* measures(world, records, parts) {
  const { portier, byHand, fields, who } = world;
  const session = portier.session({ person, onDiagnostic: () => {} });
  const names = Object.keys(fields);
  const loop = (action, field) => [
    () => {
      for (let i = 0; i < records.length; i++) if (session.may(action, "objects", records[i], field)) sink++;
    },
    () => {
      const may = action === "view" ? byHand.mayView : byHand.mayEdit;
      for (let i = 0; i < records.length; i++) if (may(who, records[i], field)) sink++;
    },
  ];
  const bound = (action, field) => [
    () => {
      const question = session.question(action, "objects", field);
      for (let i = 0; i < records.length; i++) if (question(records[i])) sink++;
    },
    loop(action, field)[1],
  ];
  const inTurn = (action) => [
    () => {
      for (let i = 0; i < records.length; i++) {
        for (let f = 0; f < names.length; f++) if (session.may(action, "objects", records[i], names[f])) sink++;
      }
    },
    () => {
      const may = action === "view" ? byHand.mayView : byHand.mayEdit;
      for (let i = 0; i < records.length; i++) {
        for (let f = 0; f < names.length; f++) if (may(who, records[i], names[f])) sink++;
      }
    },
  ];
  const changing = (values) => [
    () => {
      for (const row of records) if (session.checkEdit("objects", row, values).accepted) sink++;
    },
    () => {
      for (const row of records) if (byHand.acceptEdit(who, row, values).accepted) sink++;
    },
  ];
  const masks = [
    () => {
      sink += session.maskAll("objects", records).length;
    },
    () => {
      sink += byHand.maskAll(who, records).length;
    },
  ];
  const all = {
    "view, one field in a loop": [1, () => loop("view", "label")],
    "edit, one field in a loop": [1, () => loop("edit", "label")],
    "view, one field, as a question": [1, () => bound("view", "label")],
    "edit that no rule permits": [1, () => loop("edit", "insured_value")],
    "view, all fields in turn": [names.length, () => inTurn("view")],
    "edit, all fields in turn": [names.length, () => inTurn("edit")],
    mask: [1, () => masks],
    "accepted edit": [1, () => changing({ label: "new" })],
    "edit of what is looked at by rules": [1, () => changing({ status: "on_loan" })],
  };
  for (const [what, [each, make]] of Object.entries(all)) {
    const field = /label|insured_value/.exec(String(make))?.[0];
    if (!parts.includes(what) || (field !== undefined && !(field in fields))) continue;
    const [ours, theirs] = make();
    yield { what, ...compareRuns(records.length * each, ours, theirs) };
  }
}

function sized(world, sizes, parts) {
  return sizes.flatMap((length) => {
    const rows = [...measures(world, world.makeRecords(length), parts)];
    return rows.map(({ what, ...row }) => ({ what: `${what}, ${length.toLocaleString("en")} records`, ...row }));
  });
}

const everything = [
  "view, one field in a loop",
  "edit, one field in a loop",
  "view, one field, as a question",
  "edit that no rule permits",
  "view, all fields in turn",
  "edit, all fields in turn",
  "mask",
  "accepted edit",
  "edit of what is looked at by rules",
];

function measureAll(world) {
  checkEqual(world);
  return sized(world, [2_000, 100_000], everything);
}

function measureGrowth(world) {
  checkEqual(world);
  return sized(world, [2_000], everything.slice(0, 7));
}

/** As records come from several queries: with their fields in different orders. */
function measureMixed(world) {
  checkEqual(world);
  const records = world.makeRecords(2_000).map((row, i) => {
    const entries = Object.entries(row);
    const at = (i % 5) * 3;
    return Object.fromEntries([...entries.slice(at), ...entries.slice(0, at)]);
  });
  return [...measures(world, records, everything)].map(({ what, ...row }) => ({
    what: `${what}, 2,000 records`,
    ...row,
  }));
}

/** Openings: nobody opens sessions by hand, so there is nothing to compare with. */
function measurePeople({ compile, document, makeRecords }) {
  const [record] = makeRecords(1);
  const people = Array.from({ length: 20_000 }, (_, i) => ({ ...person, id: `s-${i}`, name: `Person ${i}` }));
  const rows = [];
  const assigned = structuredClone(document);
  assigned.people.assignments = true;
  const measure = (what, portier, count, options) => {
    const open = (one) => {
      if (portier.session(options(one)).may("view", "objects", record, "label")) sink++;
    };
    for (let i = 0; i < 3_000; i++) open(people[i % Math.min(count, 1_000)]);
    const rounds = Array.from({ length: 7 }, () =>
      cpu(() => {
        for (let i = 0; i < 20_000; i++) open(people[i % count]);
      }),
    );
    globalThis.gc?.();
    const before = process.memoryUsage().heapUsed;
    for (let i = 0; i < count; i++) open(people[i]);
    globalThis.gc?.();
    const bytes = count === 1 ? undefined : Math.max(0, process.memoryUsage().heapUsed - before) / count;
    rows.push({ what, ours: median(rounds) / 20_000, bytes });
  };
  const quiet = () => {};
  const portier = compile(document);
  measure("the same person, opened and asked", portier, 1, (one) => ({ person: one, onDiagnostic: quiet }));
  measure("1,000 in turn", portier, 1_000, (one) => ({ person: one, onDiagnostic: quiet }));
  measure("20,000 in turn", portier, 20_000, (one) => ({ person: one, onDiagnostic: quiet }));
  const source = portier.source({ staff: people });
  measure("the same, by key from a source", portier, 1, (one) => ({ person: one.id, source, onDiagnostic: quiet }));
  return rows;
}

const [command, ...rest] = process.argv.slice(2);
if (command === "--shape") process.stdout.write(JSON.stringify(await measureShape(rest[0])));
else measureEach();
if (sink < 0) console.log(sink);
