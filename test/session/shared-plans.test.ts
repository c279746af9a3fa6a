import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";
import { compile, type RuleInput, snapshotOf } from "portier";
import { explain } from "portier/explain";
import { postgres, where } from "portier/sql";
import { expect, it } from "vitest";
import { internals } from "../../src/session/internals.js";

// A plan for each of a hundred thousand people would be a gigabyte. What of a person is only compared with what is in
// records is not a part of it; whatever else rules ask of a person is, or reach would promise too little.

const people = Array.from({ length: 200 }, (_, index) => ({
  id: `s-${index}`,
  dept: `d${index % 10}`,
  boss: index === 0 ? null : "s-0",
  level: index % 2,
}));
const objects = people.map(({ id, dept }, index) => ({
  id: `o-${index}`,
  keeper: id,
  dept,
  made: `2026-11-${10 + (index % 10)}`,
}));

function museum(rule: RuleInput) {
  return compile({
    portier: 1,
    people: { table: "staff", manager: "boss" },
    request: { site: "text" },
    tables: {
      staff: {
        key: "id",
        fields: { id: "text", dept: "text", boss: { reference: "staff", optional: true }, level: "integer" },
      },
      objects: {
        key: "id",
        owner: "keeper",
        fields: { id: "text", keeper: { reference: "staff" }, dept: "text", made: "date" },
        rules: { one: rule },
      },
    },
  });
}

it.each<[string, RuleInput, number]>([
  ["owners", { to: "owner", permit: { view: "all" } }, 1],
  ["those above owners", { to: "above owner", permit: { view: "all" } }, 1],
  ["what is compared with a field", { where: "dept = me.dept or keeper.dept = me.dept", permit: { view: "all" } }, 1],
  [
    "what is asked of other records",
    { where: "exists (staff where id = this.keeper and boss = me)", permit: { view: "all" } },
    1,
  ],
  ["what the request says", { where: "dept = request.site", permit: { view: "all" } }, 1],
  ["the day", { where: "made < today - 2 days", permit: { view: "all" } }, 1],
  ["what is compared with a value, too", { where: "dept = me.dept and me.level = 1", permit: { view: "all" } }, 2],
  ["what is in a list that is written out", { where: "dept in (me.dept, 'd1')", permit: { view: "all" } }, 10],
])("%s: so many plans for all", (_what, rule, plans) => {
  const portier = museum({ to: "signed-in", ...rule });
  const source = portier.source({ staff: people, objects });
  const options = { source, request: { now: "2026-11-24T09:00:00Z", site: "d3" } };
  const sessions = people.map(({ id }) => portier.session({ person: id, ...options }));
  expect(new Set(sessions.map((session) => internals(session).plan)).size).toBe(plans);
  for (const [index, session] of sessions.entries()) {
    const alone = museum({ to: "signed-in", ...rule }).session({ person: people[index]?.id as string, ...options });
    const seen = (one: typeof session) => one.maskAll("objects", objects, "view");
    expect(seen(session)).toEqual(seen(alone));
    expect(session.reach("view", "objects")).toBe(alone.reach("view", "objects"));
    // What goes elsewhere has their own values in it.
    expect(where(session, "objects", "view", postgres)).toEqual(where(alone, "objects", "view", postgres));
  }
});

it("explains with a person's own values what the rules of another table come to", () => {
  const portier = compile({
    portier: 1,
    people: { table: "staff" },
    tables: {
      staff: { key: "id", fields: { id: "text", dept: "text" } },
      rooms: {
        key: "id",
        fields: { id: "text", dept: "text" },
        rules: { own: { to: "signed-in", where: "dept = me.dept", permit: { view: "all" } } },
      },
      objects: {
        key: "id",
        fields: { id: "text", room: { reference: "rooms" } },
        rules: { there: { to: "signed-in", where: "may view room", permit: { view: "all" } } },
      },
    },
  });
  const source = portier.source({ rooms: [{ id: "r-1", dept: "ships" }] });
  const told = ["ships", "maps"].map((dept) => {
    const session = portier.session({ person: { id: `s-${dept}`, dept }, source });
    const { decision, rules } = explain(session, {
      action: "view",
      table: "objects",
      record: { id: "o-1", room: "r-1" },
    });
    return [decision?.permitted, rules[0]?.where?.truth];
  });
  expect(told).toEqual([
    [true, "true"],
    [false, "false"],
  ]);
});

it("tells those of whom nothing is known from those of whom what is stored cannot be read, whoever comes first", () => {
  const people = [
    { id: "s-null", dept: "d1", boss: null, level: null },
    { id: "s-bad", dept: "d1", boss: null, level: "two" },
  ];
  const asked = { objects: [{ id: "o-1", keeper: "s-null", dept: "d1", made: "2026-11-24" }] };
  const answers = (order: readonly number[]) => {
    const portier = compile({
      portier: 1,
      people: { table: "staff" },
      groups: { seniors: { members: [{ where: "level = 2" }] } },
      tables: {
        staff: {
          key: "id",
          fields: { id: "text", dept: "text", boss: "text", level: { type: "integer", optional: true } },
        },
        depts: {
          key: "id",
          fields: { id: "text" },
          rules: { close: { to: "seniors", permit: { delete: "yes", view: "all" } } },
        },
        objects: {
          key: "id",
          fields: { id: "text", keeper: "text", dept: { reference: "depts" }, made: "date" },
          // Whoever might close the department must not see what is in it.
          rules: { open: { to: "anyone", where: "not may delete dept", permit: { view: "all" } } },
        },
      },
    });
    const source = portier.source({ ...asked, depts: [{ id: "d1" }] });
    const onDiagnostic = () => {};
    const seen = order.map((index) => {
      const session = portier.session({ person: people[index] as (typeof people)[number], source, onDiagnostic });
      return [index, session.may("view", "objects", asked.objects[0])] as const;
    });
    return new Map(seen);
  };
  for (const order of [
    [0, 1],
    [1, 0],
  ])
    expect(Object.fromEntries(answers(order))).toEqual({ 0: true, 1: false });
});

it("keeps the plans of the last thousand who are not alike", () => {
  const portier = museum({ to: "signed-in", where: "dept in (me.dept, 'd1')", permit: { view: "all" } });
  const open = (dept: string) => portier.session({ person: { id: "s-1", dept, boss: null, level: 1 } });
  const first = internals(open("first")).plan;
  for (let other = 0; other < 999; other++) open(`other ${other}`);
  expect(internals(open("first")).plan).toBe(first);
  for (let other = 0; other < 999; other++) open(`more ${other}`);
  expect(internals(open("first")).plan).toBe(first);
  for (let other = 0; other < 1_000; other++) open(`most ${other}`);
  expect(internals(open("first")).plan).not.toBe(first);
});

it("keeps plans, and nothing of those for whom they were made", async () => {
  setFlagsFromString("--expose-gc");
  const gc = runInNewContext("gc") as () => void;
  const portier = museum({
    to: "signed-in",
    // The last is the same for every record, and decided for each session.
    where: "dept in (me.dept, 'd1') or dept = me.dept or exists (objects where keeper = me and made > today)",
    permit: { view: "all" },
  });
  const open = (dept: string) => {
    const person = { id: "s-1", dept, boss: null, level: 1 };
    const source = portier.source({ staff: [person], objects });
    const session = portier.session({ person: "s-1", source });
    // Also what goes elsewhere is a plan that is kept.
    const told = [
      session.maskAll("objects", objects).length,
      where(session, "objects", "view", postgres),
      snapshotOf(session),
      session.reach("view", "objects"),
      session.roles,
    ];
    return { told, kept: [new WeakRef(source), new WeakRef(person)] };
  };
  const opened = Array.from({ length: 50 }, (_, index) => open(`d${index}`));
  await new Promise((resolve) => setTimeout(resolve, 10));
  gc();
  expect(opened.flatMap(({ kept }) => kept.filter((one) => one.deref() !== undefined)).length).toBeLessThan(10);
});
