import { readFileSync } from "node:fs";
import type { Row } from "portier";
import { compileText } from "portier/document";
import { diffAccess, diffSessions, personViewers } from "portier/verify";
import { describe, expect, it } from "vitest";
import { museumFile, portier, records, source } from "../support/museum.js";

const request = { now: "2026-11-24T09:00:00Z" };
const everybody = (document: typeof portier) => personViewers(document, records("staff"), { source, request });

describe("what a change of the rules comes to for everybody", () => {
  const text = readFileSync(museumFile, "utf8");
  const changed = (from: string, to: string) => {
    expect(text).toContain(from);
    return compileText(text.replace(from, to));
  };

  it("is nothing where nothing changes, and what changes back is the same the other way round", () => {
    expect(diffAccess(everybody(portier), everybody(compileText(text)), records)).toEqual([]);
    const wide = changed("where: status = 'on_display'", "where: status <> 'withdrawn'");
    const there = diffAccess(everybody(portier), everybody(wide), records);
    const back = diffAccess(everybody(wide), everybody(portier), records);
    expect(back).toEqual(there.map(({ persons, gains, losses }) => ({ persons, gains: losses, losses: gains })));
  });

  it("counts how much a condition that is a little too wide gives away, to whom, with samples", () => {
    const wide = changed("where: status = 'on_display'", "where: status <> 'withdrawn'");
    const differences = diffAccess(everybody(portier), everybody(wide), records);
    const visitor = differences.find(({ persons }) => persons.includes("visitor"));
    const hidden = records("objects").filter(({ status }) => status !== "withdrawn" && status !== "on_display");
    expect(visitor?.gains).toContainEqual({
      table: "objects",
      actions: ["list", "view"],
      fields: ["accession", "title", "label", "material", "made_in"],
      records: hidden.length,
      of: 400,
      samples: hidden.slice(0, 3).map(({ accession }) => accession),
      sensitive: false,
    });
    expect(visitor?.losses).toEqual([]);
    // Somebody who saw every object before gains nothing of them, and whoever left nothing at all.
    const persons = differences.flatMap((one) => one.persons);
    expect(persons).not.toContain("s-009");
    expect(persons).not.toContain("s-005");
  });

  // What a rule asks of another table by "may" was overlooked where only that other table came to differ.
  it("finds what is gained through a rule that asks about another table", () => {
    const assignments = [{ id: "a-9", person: "s-007", role: "registrar", on: null, from: null, until: null }];
    const open = (portier_assignments: readonly Row[]) => {
      const names = [...portier.schema.tables.keys()];
      const tables = Object.fromEntries(names.map((name) => [name, records(name)]));
      const rows = { ...tables, portier_assignments, portier_delegations: [] };
      return portier.session({ person: "s-007", source: portier.source(rows), request });
    };
    const { gains } = diffSessions(open([]), open(assignments), records);
    expect(gains.find(({ table }) => table === "exhibition_team")).toMatchObject({
      actions: ["list"],
      records: 3,
      samples: ["e-3/s-017", "e-5/s-018", "e-5/s-012"],
    });
  });

  it("agrees with what each may do with each record", () => {
    const [before, after] = ["s-007", "s-005"].map((person) => portier.session({ person, source, request }));
    if (before === undefined || after === undefined) throw new Error("no session");
    const { gains, losses } = diffSessions(before, after, records);
    for (const [lines, more, less] of [
      [gains, after, before],
      [losses, before, after],
    ] as const) {
      for (const action of ["list", "view", "edit"] as const) {
        for (const { name } of portier.schema.tables.get("objects")?.fields ?? []) {
          const counted = records("objects").filter(
            (row) => more.may(action, "objects", row, name) && !less.may(action, "objects", row, name),
          );
          const line = lines.find(
            ({ table, actions, fields }) => table === "objects" && actions.includes(action) && fields.includes(name),
          );
          expect(line?.records ?? 0, `${action} ${name}`).toBe(counted.length);
        }
      }
    }
  });
});
