// What settings per person cost, in memory, in one run by turns: opening the session of somebody of whom something is set
// against one of whom nothing is, and looking at 100,000 records under settings against hand-written code and against none.
// Run with "npm run bench:settings".
import { compile } from "../dist/index.js";
import { compareRuns } from "./measure.mjs";

const people = 2_000;
const count = 100_000;
const settings = {
  ...{ table: "settings", person: "member", on: "entity", field: "attribute", level: "level", record: "record" },
  ...{ settableBy: "keeper", adds: { objects: { view: "shelf" } } },
};
const portier = compile({
  portier: 1,
  people: { table: "staff", roles: "post", settings },
  roles: { keeper: {} },
  tables: {
    staff: { key: "id", fields: { id: "text", post: { choice: ["keeper"] } } },
    settings: {
      key: "id",
      fields: {
        ...{ id: "text", member: { reference: "staff" }, entity: "text", attribute: "text", level: "text" },
        record: { type: "text", optional: true },
      },
    },
    objects: {
      key: "id",
      fields: { id: "text", title: "text", label: "text", value: "integer", shelf: { type: "text", sensitive: true } },
      rules: { keepers: { to: "keeper", where: "value < 900", permit: { view: "all", edit: ["title", "label"] } } },
    },
  },
});

const one = (member, at, attribute, level, record = null) => ({
  ...{ id: `${member} ${at}`, member, entity: "objects", attribute, level, record },
});
const staff = Array.from({ length: people }, (_, at) => ({ id: `p${at}`, post: "keeper" }));
// Every second person has three settings, one of them on a record; p1 hides a hundred of them.
const rows = staff.flatMap(({ id }, at) => {
  if (at % 2 === 0) return [];
  const hidden = Array.from({ length: at === 1 ? 100 : 1 }, (_, no) => one(id, no + 3, "title", "none", `o${at + no}`));
  return [one(id, 1, "label", "none"), one(id, 2, "shelf", "view"), ...hidden];
});
const source = portier.source({ staff, settings: rows });
const objects = Array.from({ length: count }, (_, at) => ({
  ...{ id: `o${at}`, title: `Object ${at}`, label: "a label", value: at % 1_000, shelf: `S${at % 50}` },
}));

let at = 0;
const open = (first) => {
  at = (at + 2) % people;
  return portier.session({ person: staff[(at + first) % people], source }).may("view", "objects", objects[5], "label");
};
for (let turn = 0; turn < 5 * people; turn++) open(turn % 2);
report(
  "open a session: three settings : none",
  compareRuns(
    1,
    () => open(1),
    () => open(0),
  ),
);

const set = portier.session({ person: "p3", source });
const plain = portier.session({ person: "p2", source });
const many = portier.session({ person: "p1", source });
const titles = (session) => () => objects.filter(session.question("view", "objects", "title")).length;
const labels = (session) => () => objects.filter(session.question("view", "objects", "label")).length;
const hidden = new Set(
  rows.filter(({ member, record }) => member === "p1" && record !== null).map(({ record }) => record),
);
const byHand = () => objects.filter((row) => !hidden.has(row.id) && row.value < 900).length;
if (titles(many)() !== byHand()) throw new Error("the two sides differ");
report(
  "a field of which nothing is set of them : of nobody",
  compareRuns(count, labelsOf("value", set), labelsOf("value", plain)),
);
report("a field that is hidden on all : the same without", compareRuns(count, labels(set), labels(plain)));
report("a field that is hidden on 100 records : by hand", compareRuns(count, titles(many), byHand));
report(
  "masks: three settings : none",
  compareRuns(
    count,
    () => set.maskAll("objects", objects),
    () => plain.maskAll("objects", objects),
  ),
);

function labelsOf(field, session) {
  return () => objects.filter(session.question("view", "objects", field)).length;
}

function report(what, { ratio, from, to, ours, byHand: theirs }) {
  const spread = `(${from.toFixed(2)} to ${to.toFixed(2)})`;
  console.log(
    `${what.padEnd(54)} ${ratio.toFixed(2).padStart(6)}x  ${spread.padEnd(16)} ${ours.toFixed(0)} : ${theirs.toFixed(0)} ns`,
  );
}
