import fc from "fast-check";
import { compile, type DocumentInput, type Row } from "portier";
import { makeReport, reportMarkdown, reportPage } from "portier/report";
import { compareWith, groupMatrix } from "portier/tooling";
import { accessMatrix, diffAccess, lint, personViewers } from "portier/verify";
import { describe, expect, it } from "vitest";
import { documentFrom, everyRules, items, lines, now, rules, sheetRules, worlds } from "../support/random-documents.js";
import { runsOf } from "../support/runs.js";

const request = { now };
const drawnRules = fc.array(rules, { minLength: 1, maxLength: 6 });
const drawn = fc.record({
  rules: drawnRules,
  other: drawnRules,
  every: fc.option(everyRules, { nil: undefined }),
  sheet: fc.array(sheetRules, { maxLength: 4 }),
  world: worlds,
  items: fc.array(items, { minLength: 1, maxLength: 40 }),
  lines: fc.array(lines, { minLength: 1, maxLength: 20 }),
});

type Drawn = typeof drawn extends fc.Arbitrary<infer D> ? D : never;

function worldOf(one: Drawn, drawnOnes: Drawn["rules"]) {
  const portier = compile(documentFrom({ rules: drawnOnes, every: one.every, sheet: one.sheet }));
  const numbered = (rows: readonly Row[], letter: string) => rows.map((row, at) => ({ ...row, id: `${letter}${at}` }));
  const tables: Record<string, readonly Row[]> = {
    ...one.world,
    items: numbered(one.items, "i"),
    sheet: numbered(one.lines, "s"),
    portier_delegations: [],
  };
  const source = portier.source(tables);
  const viewers = personViewers(portier, tables["staff"] ?? [], { source, request });
  return { portier, tables, viewers, records: new Map(Object.entries(tables)) };
}

describe("the access matrix", () => {
  it("counts what each session permits on each record, of records and of fields", () => {
    let counted = 0;
    fc.assert(
      fc.property(drawn, (one) => {
        const { portier, viewers, records } = worldOf(one, one.rules);
        for (const { viewer, table, field, cells } of accessMatrix(portier, viewers, { records, fields: true })) {
          for (const [action, { count, reach }] of cells) {
            if (count === undefined) continue;
            const rows = records.get(table) ?? [];
            const permitted = rows.filter((row) => viewer.session.may(action, table, row, field)).length;
            if (count !== permitted)
              throw new Error(`${viewer.id} ${action} ${table} ${field}: ${count}, not ${permitted}`);
            expect(reach === "none" ? count : 0).toBe(0);
            counted++;
          }
        }
      }),
      { numRuns: runsOf(40) },
    );
    expect(counted).toBeGreaterThan(1_000);
  });

  it("folds those who are equal, and nobody else", () => {
    fc.assert(
      fc.property(drawn, (one) => {
        const { portier, viewers, records } = worldOf(one, one.rules);
        const rows = accessMatrix(portier, viewers, { records });
        const look = (id: string) =>
          JSON.stringify(rows.filter(({ viewer }) => viewer.id === id).map(({ cells }) => [...cells]));
        const folded = groupMatrix(rows);
        expect(folded.flatMap((fold) => fold.viewers).length).toBe(viewers.length);
        const looks = folded.map((fold) => new Set(fold.viewers.map(({ id }) => look(id))));
        for (const own of looks) expect(own.size).toBe(1);
        expect(new Set(looks.flatMap((own) => [...own])).size).toBe(folded.length);
        // Nobody differs from themselves, and more is less seen from the other side.
        for (const { viewer, ...row } of rows) {
          for (const action of row.cells.keys()) {
            expect(compareWith(rows, viewer.id)({ viewer, ...row }, action)).toBeUndefined();
          }
        }
      }),
      { numRuns: runsOf(15) },
    );
  });
});

describe("whatever compiles", () => {
  it("is warned about and reported without a fault, and names every rule", () => {
    fc.assert(
      fc.property(drawn, (one) => {
        const { tables, viewers, records } = worldOf(one, one.rules);
        const screens = {
          all: { to: ["junior and below", "inner and 1 level below", "signed-in"], needs: "items.view" },
          own: { to: ["clerk and above", "lead"], home: "senior and 2 levels above" },
        };
        const portier = compile({ ...documentFrom({ ...one, rules: one.rules }), screens } as unknown as DocumentInput);
        const data = { tables: records, source: portier.source(tables) };
        for (const { path, message } of lint(portier, { data, now, browser: true, screens: true })) {
          expect(path.length).toBeGreaterThan(0);
          expect(message).not.toMatch(/undefined|\[object/);
        }
        const report = makeReport(portier, { title: "Museum", people: viewers, records });
        const markdown = reportMarkdown(report);
        const page = reportPage(report);
        for (const text of [markdown, page]) {
          expect(text).not.toMatch(/undefined|\[object|NaN/);
          for (const [at] of one.rules.entries()) expect(text).toContain(`items/r${at}`);
        }
      }),
      { numRuns: runsOf(40) },
    );
  });
});

describe("what a change of the rules comes to", () => {
  it("is what the sessions say before and after, record by record", () => {
    let compared = 0;
    fc.assert(
      fc.property(drawn, (one) => {
        const before = worldOf(one, one.rules);
        const after = worldOf(one, one.other);
        const records = (table: string) => before.tables[table] ?? [];
        const found = diffAccess(before.viewers, after.viewers, records);
        for (const [at, { id, session }] of after.viewers.entries()) {
          const was = before.viewers[at]?.session;
          const own = found.find(({ persons }) => persons.includes(id));
          for (const { name } of after.portier.schema.tables.get("items")?.fields ?? []) {
            for (const action of ["list", "view", "edit", "export", "bulk"] as const) {
              const gained = records("items").filter(
                (row) => session.may(action, "items", row, name) && !was?.may(action, "items", row, name),
              ).length;
              const told = (own?.gains ?? []).find(
                (line) => line.table === "items" && line.actions.includes(action) && line.fields.includes(name),
              );
              if ((told?.records ?? 0) !== gained)
                throw new Error(`${id} ${action} ${name}: ${told?.records}, not ${gained}`);
              compared++;
            }
          }
        }
      }),
      { numRuns: runsOf(40) },
    );
    expect(compared).toBeGreaterThan(1_000);
  });
});
