import { compile } from "portier";
import { createDatabase } from "portier/database";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, held, store } from "../support/engines.js";

// Several changes in one request were each judged on other records as they were before all of them: two that exclude each
// other passed together.
const portier = compile({
  portier: 1,
  tables: {
    cases: {
      key: "id",
      fields: { id: "text", room: "text", chosen: { type: "boolean", default: false } },
      rules: {
        "all-is-seen": { to: "anyone", permit: { view: "all" } },
        "one-case-a-room-is-chosen": {
          to: "anyone",
          where: "not exists (cases where room = this.room and chosen = true)",
          becomes: "any",
          permit: { edit: ["chosen"], bulk: ["chosen"] },
        },
      },
    },
    loans: {
      key: "id",
      fields: { id: "text", object: "text" },
      rules: {
        "all-is-seen": { to: "anyone", permit: { view: "all" } },
        "what-is-out-is-not-lent-again": {
          to: "anyone",
          where: "not exists (loans where object = this.object)",
          permit: { create: "all", import: "all" },
        },
      },
    },
  },
});

const cases = [
  { id: "c1", room: "north", chosen: false },
  { id: "c2", room: "north", chosen: false },
  { id: "c3", room: "south", chosen: false },
];
const twice = [
  { id: "l1", object: "bell" },
  { id: "l2", object: "bell" },
];
const apart = [
  { id: "l1", object: "bell" },
  { id: "l2", object: "anchor" },
];
const answers = ({ accepted, results }: { accepted: boolean; results: readonly { accepted: boolean }[] }) => [
  accepted,
  ...results.map((one) => one.accepted),
];

describe("several changes in memory", () => {
  const session = portier.session({ source: portier.source({ cases, loans: [] }) });
  const chosen = { chosen: true };

  it("see what those before them have left", () => {
    expect(answers(session.checkBulkEdit("cases", cases.slice(0, 2), chosen))).toEqual([false, true, false]);
    expect(answers(session.checkBulkEdit("cases", cases.slice(1), chosen))).toEqual([true, true, true]);
    expect(answers(session.checkImport("loans", twice))).toEqual([false, true, false]);
    expect(answers(session.checkImport("loans", apart))).toEqual([true, true, true]);
  });
});

describe.each(Object.entries(engines))("several changes on %s", (_name, open) => {
  let engine: Engine;
  const table = (name: string) => portier.schema.tables.get(name) as Table;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
  });
  afterAll(() => engine?.close());

  it("see what those before them have left, and all or none is written", async () => {
    const anybody = createDatabase(portier, engine.connection).as(null);
    const chosen = { chosen: true };
    const each = (...keys: string[]) => keys.map((key) => ({ key, values: chosen }));
    const countChosen = async () => (await held(engine, table("cases"))).filter((row) => row["chosen"] === true).length;
    for (const [change, expected, count] of [
      [() => anybody.bulkEdit("cases", ["c1", "c2"], chosen), [false, true, false], 0],
      [() => anybody.bulkEdit("cases", ["c2", "c3"], chosen), [true, true, true], 2],
      [() => anybody.editEach("cases", each("c1", "c3", "c2")), [false, true, true, false], 0],
      [() => anybody.editEach("cases", each("c1", "c3")), [true, true, true], 2],
    ] as const) {
      await store(engine, table("cases"), cases);
      expect(answers(await change())).toEqual(expected);
      expect(await countChosen()).toBe(count);
    }
    await store(engine, table("loans"), []);
    expect(answers(await anybody.import("loans", twice))).toEqual([false, true, false]);
    expect(await held(engine, table("loans"))).toEqual([]);
    expect(answers(await anybody.import("loans", apart))).toEqual([true, true, true]);
    expect(await held(engine, table("loans"))).toHaveLength(2);
  });
});
